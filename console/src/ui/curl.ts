// A request as a line for a shell, without the credential that it was sent with.
type Request = { method: string; target: string; body?: unknown };

const HTTP = ['GET', 'HEAD', 'POST', 'PUT', 'PATCH', 'DELETE', 'OPTIONS'];

/** Whether what is sent is a request over HTTP, which a line for a shell can send again. */
export const isHttp = (method: string) => HTTP.includes(method);

/** Whether what is sent is a command or a script, and no request. */
export const isProgram = (method: string | undefined) => method === 'SSH' || method === 'SCRIPT';

const quoted = (text: string) => `'${text.replaceAll("'", `'\\''`)}'`;

/** `BASE` is the address of the connection; where it is not known, whoever runs the line says it. */
export function curl({ method, target, body }: Request, base?: string | null): string {
  const address = base ? quoted(`${base.replace(/\/$/, '')}${target}`) : `"$BASE"${quoted(target)}`;
  const parts = ['curl', '-X', method, address];
  if (body !== undefined && body !== null) {
    const text = typeof body === 'string' ? body : JSON.stringify(body);
    parts.push('-H', quoted('Content-Type: application/json'), '--data', quoted(text));
  }
  return parts.join(' ');
}
