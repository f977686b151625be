import { Link } from 'react-router';
import { Empty } from '../ui/parts';

export function Component() {
  return (
    <Empty>
      There is nothing at this address.{' '}
      <Link to="/" className="text-sea underline">
        Back to Watch
      </Link>
    </Empty>
  );
}
