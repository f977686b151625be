// A request over HTTP as a line for a shell; whatever else is sent has none.
import { Copy } from './Copy';
import { curl, isHttp } from './curl';

type Props = { request: { method: string; target: string; body?: unknown }; base?: string | null };

export function AsCurl({ request, base }: Props) {
  if (!isHttp(request.method)) return null;
  return <Copy text={curl(request, base)} of="the request" shown="copy as curl" />;
}
