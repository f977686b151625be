// What is said of a contact in a line.
import type { Contact } from '../../api/client';

/** Who of a team is on duty. */
export const onDuty = (c: Contact): string =>
  c.duty_by ? `as ${c.duty_by} says` : c.on_duty.join(', ');

/** By which way somebody would be reached first. */
export const first = (c: Contact): string => {
  const way = c.ways.find((w) => w.now);
  return way ? `${way.contact}: ${way.call} via ${way.via}` : 'nobody is to be reached now';
};
