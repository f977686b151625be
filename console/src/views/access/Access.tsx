// Who may do what: tokens with their roles, and secrets by their names.
import { Header } from '../../ui/parts';
import { Needs, useMay } from '../../ui/rights';
import { Secrets } from './Secrets';
import { Tokens } from './Tokens';

export function Component() {
  const admin = useMay('admin');
  const author = useMay('author');
  return (
    <>
      <Header title="Access" />
      <div className="grid items-start gap-3.5 lg:grid-cols-2">
        {admin ? <Tokens /> : <Needs least="admin">Seeing tokens</Needs>}
        {author ? <Secrets /> : <Needs least="author">Seeing the names of secrets</Needs>}
      </div>
    </>
  );
}
