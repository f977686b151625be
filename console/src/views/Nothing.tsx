import { Link } from 'react-router';
import { Empty, Header } from '../ui/parts';

export function Component() {
  return (
    <>
      <Header title="Nothing here" />
      <Empty>
        There is nothing at this address.{' '}
        <Link to="/" className="text-sea underline">
          Back to Watch
        </Link>
      </Empty>
    </>
  );
}
