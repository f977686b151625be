// A request as a line for a shell; a message by mail, a command and a script have none.
import { Copy } from './Copy';
import { curl, isProgram } from './curl';

type Props = { request: { method: string; target: string; body?: unknown }; base?: string | null };

export function AsCurl({ request, base }: Props) {
  if (request.method === 'MAIL' || isProgram(request.method)) return null;
  return <Copy text={curl(request, base)} of="the request" shown="copy as curl" />;
}
