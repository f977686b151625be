// A request as a line for a shell; a message by mail and a command on a machine have none.
import { Copy } from './Copy';
import { curl } from './curl';

type Props = { request: { method: string; target: string; body?: unknown }; base?: string | null };

export function AsCurl({ request, base }: Props) {
  if (request.method === 'MAIL' || request.method === 'SSH') return null;
  return <Copy text={curl(request, base)} of="the request" shown="copy as curl" />;
}
