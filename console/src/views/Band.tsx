// The band: from alerts to effects, narrowing to scale; what is held leaves below.
import type { ReactNode } from 'react';
import { Link } from 'react-router';
import type { Narrowing as Numbers } from '../api/client';
import { band, type Counted, height } from './band';

const WIDTH = 1060;
const AXIS = 92;
const STEP = 238;
const x = (i: number) => 10 + i * STEP;

export function Band({ numbers }: { numbers: Numbers }) {
  const parts = band(numbers);
  return (
    <>
      <div className="hidden md:block">
        <Drawn {...parts} />
      </div>
      <Listed {...parts} />
    </>
  );
}

/** A number that leads to what it counts, where that can be seen. */
function Leading({
  to,
  className,
  children,
}: {
  to?: string;
  className?: string;
  children: ReactNode;
}) {
  if (to) {
    return (
      <Link to={to} className={className}>
        {children}
      </Link>
    );
  }
  return className ? <span className={className}>{children}</span> : <g>{children}</g>;
}

type Parts = { columns: Counted[]; leaving: Counted[][] };

function Drawn({ columns, leaving }: Parts) {
  // As high as the longest list of what leaves, which is three lines most of the time.
  const lines = Math.max(3, ...leaving.map((side) => side.filter((s) => s.count > 0).length));
  return (
    <svg viewBox={`0 0 ${WIDTH} ${155 + lines * 19}`} className="w-full">
      <title>From received to confirmed</title>
      {leaving.map((side, i) => (
        <Narrowing
          key={columns[i]?.label}
          i={i}
          from={columns[i]?.count ?? 0}
          to={columns[i + 1]?.count ?? 0}
          side={side}
        />
      ))}
      {columns.map(({ label, count, to }, i) => (
        <Leading key={label} to={to}>
          <line x1={x(i)} x2={x(i)} y1="8" y2={AXIS + height(count) / 2} stroke="var(--ink-3)" />
          <text x={x(i) + 9} y="26" fontSize="24" fontWeight="700" fill="var(--ink)">
            {count.toLocaleString('en')}
          </text>
          <text x={x(i) + 9} y="44" fontSize="13" fill="var(--ink-2)">
            {label}
          </text>
        </Leading>
      ))}
    </svg>
  );
}

function Narrowing({
  i,
  from,
  to,
  side,
}: {
  i: number;
  from: number;
  to: number;
  side: Counted[];
}) {
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
          <Leading key={s.label} to={s.to}>
            <text
              x={out + 12}
              y={160 + j * 19}
              fontSize="13"
              fill={s.bad ? 'var(--bad)' : 'var(--ink-2)'}
            >
              <tspan fontWeight="700" fill={s.bad ? 'var(--bad)' : 'var(--ink)'}>
                {s.count.toLocaleString('en')}
              </tspan>{' '}
              {s.label}
            </text>
          </Leading>
        ))}
    </>
  );
}

/** The same numbers down the page, for narrow screens. */
function Listed({ columns, leaving }: Parts) {
  return (
    <ol className="flex flex-col gap-1.5 md:hidden">
      {columns.map(({ label, count, to }, i) => (
        <li key={label}>
          <Leading to={to} className="flex items-center gap-2.5">
            <b className="w-16 text-right text-lg leading-none">{count.toLocaleString('en')}</b>
            <span
              aria-hidden="true"
              className="h-4 rounded-sm bg-sea"
              style={{ width: height(count), opacity: 0.4 + 0.15 * i }}
            />
            {label}
          </Leading>
          {leaving[i]
            ?.filter((s) => s.count > 0)
            .map((s) => (
              <Leading
                key={s.label}
                to={s.to}
                className={s.bad ? 'block pl-24 text-bad' : 'block pl-24 text-ink-2'}
              >
                {s.count.toLocaleString('en')} {s.label}
              </Leading>
            ))}
        </li>
      ))}
    </ol>
  );
}
