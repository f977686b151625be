// The stance that a rule's text gives it.
export const stanceOf = (text: string) => /^stance:\s*(\w+)/m.exec(text)?.[1] ?? 'watch';
const REACH = ['watch', 'propose', 'act'];
/** The text with another stance. */
export function withStance(text: string, stance: string): string {
  if (/^stance:/m.test(text)) return text.replace(/^stance:\s*\w+/m, `stance: ${stance}`);
  return text.replace(/^(rule:.*\n(?:summary:.*\n)?(?:owner:.*\n)?)/m, `$1stance: ${stance}\n`);
}

/** Whether a stance lets a rule do more than another; `''` is none at all. */
export const allowsMore = (was: string, is: string) => REACH.indexOf(is) > REACH.indexOf(was);
