// Who did something: an id with its kind, `token/pat`.

/** The kind and the id. */
export function principal(who: string): [kind: string, id: string] {
  const cut = who.indexOf('/');
  return cut < 0 ? ['', who] : [who.slice(0, cut), who.slice(cut + 1)];
}

/** As people read it: the name alone only where it is one that was given, and not one that somebody
 * typed. The core has the same. */
export function shown(who: string): string {
  const [kind, id] = principal(who);
  if (kind === 'link' || kind === 'mail') return `${id} (by ${kind}, not signed in)`;
  return kind === 'token' || kind === '' ? id : `${id} (${kind})`;
}
