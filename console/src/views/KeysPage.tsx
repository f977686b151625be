// Every key of the console.
import { LETTERS } from '../shell/Keys';
import { Header, Panel } from '../ui/parts';

const EVERYWHERE: [string, string][] = [
  ['Ctrl K', 'go anywhere, and do what can be done from anywhere, by a few letters'],
  ['?', 'this page'],
  ['/', 'the search of a list'],
  [
    'Tab, Shift Tab',
    'to what can be pressed next, or before; the first Tab of a page skips the menu',
  ],
  ['Escape', 'closes what is open'],
];
const LISTS: [string, string][] = [
  ['Down, Up', 'from row to row'],
  ['Home, End', 'to the first row, the last'],
  ['Enter', 'opens the row'],
];
const TIMELINE: [string, string][] = [
  ['Left, Right', 'moves an end of the stretch by one bar'],
  ['Page up, Page down', 'moves it by ten'],
  ['Home, End', 'moves it as far as it goes'],
];
const EDITOR: [string, string][] = [
  ['Ctrl S', 'publishing: what it changes is shown first'],
  ['Ctrl F', 'finds, and replaces'],
  ['Ctrl Space', 'what can stand here'],
  ['Ctrl Z, Ctrl Y', 'takes back, does again'],
  ['Escape, then Tab', 'leaves the editor'],
];

export function Component() {
  const letters = Object.entries(LETTERS).map(([letter, [view]]): [string, string] => [
    `g ${letter}`,
    view,
  ]);
  return (
    <>
      <Header title="Keys" />
      <div className="grid items-start gap-3.5 lg:grid-cols-2">
        <Some title="Everywhere" keys={EVERYWHERE} />
        <Some title="To a view" keys={letters} />
        <Some title="In lists" keys={LISTS} />
        <Some title="On a timeline, with the focus on one of its ends" keys={TIMELINE} />
        <Some title="In an editor" keys={EDITOR} />
      </div>
    </>
  );
}

function Some({ title, keys }: { title: string; keys: [string, string][] }) {
  return (
    <Panel title={title}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1.5">
        {keys.map(([key, does]) => (
          <div key={key} className="contents">
            <dt>
              <kbd className="mono rounded border border-line bg-sunk px-1.5 py-px">{key}</kbd>
            </dt>
            <dd className="text-ink-2">{does}</dd>
          </div>
        ))}
      </dl>
    </Panel>
  );
}
