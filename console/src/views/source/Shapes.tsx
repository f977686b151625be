// What a source sends: its kinds, the fields of one, or of two side by side.
import { useQuery } from '@tanstack/react-query';
import { type ReactNode, useState } from 'react';
import { type KindShape, type ShapeField, shapes } from '../../api/client';
import { Empty, Panel, Unanswered } from '../../ui/parts';
import { Time } from '../../ui/Time';
import { some } from '../../ui/words';

const CAUGHT = 'caught, not read yet';
const nameOf = (shape: KindShape) => shape.kind ?? CAUGHT;
const percent = (share: number) => `${Math.round(share * 100)} %`;
const typesOf = (field: ShapeField) => Object.keys(field.types).join(', ');

function bounds(field: ShapeField): string {
  if (field.least == null || field.most == null) return '';
  return field.least === field.most ? `${field.least}` : `${field.least} to ${field.most}`;
}

function every(seconds: number | null | undefined): string {
  if (seconds == null) return '';
  if (seconds < 1) return 'several a second';
  if (seconds < 90) return `every ${Math.round(seconds)} s`;
  if (seconds < 5400) return `every ${Math.round(seconds / 60)} min`;
  return `every ${Math.round(seconds / 3600)} h`;
}

export function Shapes({ source }: { source: string }) {
  const found = useQuery({
    queryKey: ['shapes', source],
    queryFn: () => shapes(source),
    refetchInterval: 10_000,
  });
  const [chosen, setChosen] = useState<string>();
  const [beside, setBeside] = useState('');
  const kinds = found.data?.kinds ?? [];
  const shape = kinds.find((kind) => nameOf(kind) === chosen) ?? kinds[0];
  const other = kinds.find((kind) => nameOf(kind) === beside && kind !== shape);
  return (
    <Panel title="What it sends" aside={kinds.length > 0 ? some(kinds.length, 'kind') : undefined}>
      <Unanswered question={found} />
      {found.data && kinds.length === 0 && (
        <Empty>Nothing came yet, or it is not written yet.</Empty>
      )}
      {shape && (
        <>
          <div className="flex flex-wrap items-center gap-2 pb-2 text-[13px]">
            <Choice label="Kind" value={nameOf(shape)} of={kinds} onChoose={setChosen} />
            {kinds.length > 1 && (
              <Choice
                label="Beside"
                value={other ? beside : ''}
                of={kinds.filter((kind) => kind !== shape)}
                none="no other"
                onChoose={setBeside}
              />
            )}
            <span className="text-ink-2">
              {[`${shape.count} came`, every(shape.every_seconds)].filter(Boolean).join(', ')}, last{' '}
              <Time at={shape.last} age /> ago
            </span>
          </div>
          {other ? <Beside left={shape} right={other} /> : <Fields shape={shape} />}
          {shape.has_more && (
            <p className="pt-1 text-[12.5px] text-ink-2">It has more fields than are kept.</p>
          )}
        </>
      )}
    </Panel>
  );
}

type ChoiceProps = {
  label: string;
  value: string;
  of: KindShape[];
  none?: string;
  onChoose: (kind: string) => void;
};

function Choice({ label, value, of, none, onChoose }: ChoiceProps) {
  return (
    <label className="flex items-center gap-1.5">
      <span className="text-ink-2">{label}</span>
      <select
        value={value}
        onChange={(event) => onChoose(event.target.value)}
        className="rounded-md border border-line bg-panel px-2 py-1"
      >
        {none && <option value="">{none}</option>}
        {of.map((shape) => (
          <option key={nameOf(shape)}>{nameOf(shape)}</option>
        ))}
      </select>
    </label>
  );
}

const HEAD = 'px-2 py-1 text-left font-semibold text-[12px] text-ink-3 whitespace-nowrap';
const CELL = 'px-2 py-0.5 align-top';

/** A table that is moved sideways where there is no room, by keys as well. */
function Wide({ label, heads, children }: { label: string; heads: string[]; children: ReactNode }) {
  return (
    // biome-ignore lint/a11y/noNoninteractiveTabindex: what is moved sideways must be reached by keys
    <section tabIndex={0} aria-label={label} className="max-h-96 overflow-auto">
      <table className="w-full text-[12.5px]">
        <thead>
          <tr className="border-line border-b">
            {heads.map((head) => (
              <th key={head} scope="col" className={HEAD}>
                {head}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>{children}</tbody>
      </table>
    </section>
  );
}

const shown = (field: ShapeField) => (field.masked ? 'masked' : field.examples.join(' | '));

function Fields({ shape }: { shape: KindShape }) {
  const heads = ['Field', 'Share', 'Types', 'Different', 'Numbers', 'Such as'];
  return (
    <Wide label={`Fields of ${nameOf(shape)}`} heads={heads}>
      {shape.fields.map((field) => (
        <tr key={field.path} className="border-line border-b last:border-b-0">
          <td className={`${CELL} mono whitespace-nowrap`}>{field.path}</td>
          <td className={`${CELL} whitespace-nowrap text-right tabular-nums`}>
            {percent(field.share)}
          </td>
          <td className={CELL}>{typesOf(field)}</td>
          <td className={`${CELL} text-right tabular-nums`}>{field.distinct || ''}</td>
          <td className={`${CELL} whitespace-nowrap tabular-nums`}>{bounds(field)}</td>
          <td className={`${CELL} max-w-60 truncate text-ink-2`} title={shown(field)}>
            {shown(field)}
          </td>
        </tr>
      ))}
    </Wide>
  );
}

/** Two kinds: what only one of them has stands first. */
function Beside({ left, right }: { left: KindShape; right: KindShape }) {
  const of = (shape: KindShape) => new Map(shape.fields.map((field) => [field.path, field]));
  const [lefts, rights] = [of(left), of(right)];
  const paths = [...new Set([...lefts.keys(), ...rights.keys()])].sort();
  const isCommon = (path: string) => lefts.has(path) && rights.has(path);
  const ordered = [...paths.filter((path) => !isCommon(path)), ...paths.filter(isCommon)];
  const cell = (field: ShapeField | undefined) =>
    field ? (
      `${percent(field.share)} ${typesOf(field)}`
    ) : (
      <span className="text-warn">never sent</span>
    );
  return (
    <Wide
      label={`${nameOf(left)} beside ${nameOf(right)}`}
      heads={['Field', nameOf(left), nameOf(right)]}
    >
      {ordered.map((path) => (
        <tr key={path} className="border-line border-b last:border-b-0">
          <td className={`${CELL} mono whitespace-nowrap`}>{path}</td>
          <td className={CELL}>{cell(lefts.get(path))}</td>
          <td className={CELL}>{cell(rights.get(path))}</td>
        </tr>
      ))}
    </Wide>
  );
}
