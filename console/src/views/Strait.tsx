// The strait: from received to confirmed, narrowing to scale; what is held leaves below.
import { Link } from 'react-router';
import type { Narrowing as Numbers } from '../api/client';
import { height, type Side, sides } from './narrowing';

const WIDTH = 1060;
const AXIS = 92;
const STEP = 238;
const x = (i: number) => 10 + i * STEP;
export function Strait({ numbers }: { numbers: Numbers }) {
  const columns: [string, number, string][] = [
    ['Received', numbers.received, '/alerts'],
    ['Distinct', numbers.distinct, '/alerts'],
    ['Matched', numbers.matched, '/alerts?verdict=matched'],
    ['Dispatched', numbers.dispatched, '/alerts?verdict=dispatched'],
    ['Confirmed', numbers.confirmed, '/jobs?state=succeeded'],
  ];
  return (
    <>
      <div className="hidden md:block">
        <Band columns={columns} leaving={sides(numbers)} />
      </div>
      <Steps columns={columns} leaving={sides(numbers)} />
    </>
  );
}

type Parts = { columns: [string, number, string][]; leaving: Side[][] };

function Band({ columns, leaving }: Parts) {
  // As high as the longest list of what leaves, which is three lines most of the time.
  const lines = Math.max(3, ...leaving.map((side) => side.filter((s) => s.count > 0).length));
  return (
    <svg viewBox={`0 0 ${WIDTH} ${155 + lines * 19}`} className="w-full">
      <title>From received to confirmed</title>
      {leaving.map((side, i) => (
        <Narrowing
          key={columns[i]?.[0]}
          i={i}
          from={columns[i]?.[1] ?? 0}
          to={columns[i + 1]?.[1] ?? 0}
          side={side}
        />
      ))}
      {columns.map(([label, count, to], i) => (
        <Link key={label} to={to}>
          <line x1={x(i)} x2={x(i)} y1="8" y2={AXIS + height(count) / 2} stroke="var(--ink-3)" />
          <text x={x(i) + 9} y="26" fontSize="24" fontWeight="700" fill="var(--ink)">
            {count.toLocaleString('en')}
          </text>
          <text x={x(i) + 9} y="44" fontSize="13" fill="var(--ink-2)">
            {label}
          </text>
        </Link>
      ))}
    </svg>
  );
}

function Narrowing({ i, from, to, side }: { i: number; from: number; to: number; side: Side[] }) {
  const [a, b] = [height(from) / 2, height(to) / 2];
  const [x0, x1] = [x(i), x(i + 1)];
  const c = (x0 + x1) / 2;
  const lost = side.reduce((sum, s) => sum + s.count, 0);
  const out = x0 + 54;
  return (
    <>
      {lost > 0 && (
        <path
          d={`M${out} ${AXIS + a - 6} C${out + 4} ${AXIS + a + 18} ${out - 10} 148 ${out - 10} 168`}
          fill="none"
          stroke="var(--sea)"
          strokeWidth={Math.max(3, Math.log10(lost + 1) * 7)}
          opacity=".22"
        />
      )}
      <path
        d={`M${x0} ${AXIS - a}C${c} ${AXIS - a} ${c} ${AXIS - b} ${x1} ${AXIS - b}L${x1} ${AXIS + b}C${c} ${AXIS + b} ${c} ${AXIS + a} ${x0} ${AXIS + a}Z`}
        fill="var(--sea)"
        opacity={0.28 + 0.16 * i}
      />
      {side
        .filter((s) => s.count > 0)
        .map((s, j) => (
          <Link key={s.label} to={s.to}>
            <text x={out + 12} y={160 + j * 19} fontSize="13" fill={s.bad ? 'var(--bad)' : 'var(--ink-2)'}>
              <tspan fontWeight="700" fill={s.bad ? 'var(--bad)' : 'var(--ink)'}>
                {s.count.toLocaleString('en')}
              </tspan>{' '}
              {s.label}
            </text>
          </Link>
        ))}
    </>
  );
}

/** The same numbers down the page, for narrow screens. */
function Steps({ columns, leaving }: Parts) {
  return (
    <ol className="flex flex-col gap-1.5 md:hidden">
      {columns.map(([label, count, to], i) => (
        <li key={label}>
          <Link to={to} className="flex items-center gap-2.5">
            <b className="w-16 text-right text-lg leading-none">{count.toLocaleString('en')}</b>
            <span
              aria-hidden="true"
              className="h-4 rounded-sm bg-sea"
              style={{ width: height(count), opacity: 0.4 + 0.15 * i }}
            />
            {label}
          </Link>
          {leaving[i]
            ?.filter((s) => s.count > 0)
            .map((s) => (
              <Link
                key={s.label}
                to={s.to}
                className={s.bad ? 'block pl-24 text-bad' : 'block pl-24 text-ink-2'}
              >
                {s.count.toLocaleString('en')} {s.label}
              </Link>
            ))}
        </li>
      ))}
    </ol>
  );
}
