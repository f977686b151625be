// Where one can go from anywhere: views, what is published, and anything by its number; and how well each fits what is
// typed.
export type Destination = {
  name: string;
  what: string;
  /** Where it leads; none for what is done on the spot. */
  to?: string;
  act?: () => void;
};

const NUMBERED: [string, string][] = [
  ['job', '/jobs'],
  ['alarm', '/alarms'],
  ['alert', '/alerts'],
  ['proposal', '/proposals'],
];
/** Goals that are offered at once. */
const OFFERED = 12;

/** Of what fits equally well the views come first and the many resources last. */
const rank = (goal: Destination) => (goal.what === 'view' ? 0 : goal.what === 'resource' ? 2 : 1);

/** How well a name fits: the smaller the better, none if the letters are not in it in this order. */
function closeness(typed: string, goal: Destination): number | null {
  const name = `${goal.name} ${goal.what}`.toLowerCase();
  const at = name.indexOf(typed);
  if (at === 0) return 0;
  if (at > 0) return /[\s-]/.test(name[at - 1] ?? '') ? 1 : 2;
  let from = 0;
  for (const letter of typed.replaceAll(' ', '')) {
    from = name.indexOf(letter, from) + 1;
    if (from === 0) return null;
  }
  return 3;
}

/** The destinations that fit what is typed, the best first. A number leads to whatever has it. */
export function destinations(typed: string, all: Destination[]): Destination[] {
  const text = typed.trim().toLowerCase();
  const number = /^(?:([a-z]+)\s*)?(\d{1,15})$/.exec(text);
  const numbered = NUMBERED.filter(([what]) => number && what.startsWith(number[1] ?? '')).map(
    ([what, path]): Destination => ({
      name: `${what} ${number?.[2]}`,
      what: 'by its number',
      to: `${path}/${number?.[2]}`,
    }),
  );
  if (text === '') return all.slice(0, OFFERED);
  const fitting = all.flatMap((goal, i) => {
    const how = closeness(text, goal);
    return how === null ? [] : [{ goal, how, i }];
  });
  fitting.sort(
    (a, b) =>
      a.how - b.how ||
      rank(a.goal) - rank(b.goal) ||
      a.goal.name.length - b.goal.name.length ||
      a.i - b.i,
  );
  return [...numbered, ...fitting.map((f) => f.goal)].slice(0, OFFERED);
}
