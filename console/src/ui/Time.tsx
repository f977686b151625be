// Times on a page: short where they stand, exact by hover and by focus, in the zone that is chosen.
import { useEffect, useRef, useState } from 'react';
import { between, clock, exact } from './time';
import { useNow } from './useNow';
import { useZone } from './zone';

type TimeProps = { at: string; age?: boolean; until?: string | null };

/** A time as a clock reading or an age. One that stands in nothing that can have the focus can have it itself. */
export function Time({ at, age, until }: TimeProps) {
  const lasting = age || until !== undefined;
  const now = useNow(lasting && !until);
  const zone = useZone();
  const place = useRef<HTMLTimeElement>(null);
  useEffect(() => {
    if (place.current && !place.current.closest('a, button, [role=row]'))
      place.current.tabIndex = 0;
  }, []);
  const fresh = age && now - Date.parse(at) < 1000;
  const shown = fresh ? 'under 1 s' : lasting ? between(at, until, now) : clock(at, zone);
  return (
    <time ref={place} dateTime={at} className="whitespace-nowrap">
      {shown}
    </time>
  );
}

/** A time in full. */
export function Exact({ at }: { at: string }) {
  return (
    <time dateTime={at} className="whitespace-nowrap">
      {exact(at, useZone())}
    </time>
  );
}

/** A time of the day. */
export function Clock({ at }: { at: string }) {
  return (
    <time dateTime={at} className="whitespace-nowrap">
      {clock(at, useZone())}
    </time>
  );
}

type Tip = { at: string; x: number; y: number };

/** The time in an element that is hovered or has the focus, or in the row around it. */
function timeIn(target: EventTarget | null, around: boolean): HTMLTimeElement | null {
  if (!(target instanceof Element)) return null;
  if (!around) return target.closest('time');
  const all = (target.closest('[role=row]') ?? target).querySelectorAll('time');
  return target.closest('time') ?? [...all].find((time) => time.offsetParent !== null) ?? null;
}

/** The exact time beside whatever shows one: one for the whole page, however many times stand on it. */
export function ExactTip() {
  const zone = useZone();
  const [tip, setTip] = useState<Tip>();
  useEffect(() => {
    const show = (time: HTMLTimeElement | null) => {
      if (!time) return setTip(undefined);
      const { left, bottom } = time.getBoundingClientRect();
      setTip({ at: time.dateTime, x: left, y: bottom });
    };
    const hovered = (event: Event) => show(timeIn(event.target, false));
    const focused = (event: Event) =>
      show((event.target as Element).matches(':focus-visible') ? timeIn(event.target, true) : null);
    const hidden = () => setTip(undefined);
    const pressed = (event: KeyboardEvent) => event.key === 'Escape' && hidden();
    const on = { pointerover: hovered, focusin: focused, focusout: hidden, scroll: hidden };
    for (const [name, heard] of Object.entries(on)) document.addEventListener(name, heard, true);
    document.addEventListener('keydown', pressed);
    return () => {
      for (const [name, heard] of Object.entries(on))
        document.removeEventListener(name, heard, true);
      document.removeEventListener('keydown', pressed);
    };
  }, []);
  if (!tip) return null;
  return (
    <div
      role="tooltip"
      style={{ left: Math.min(tip.x, innerWidth - 220), top: tip.y + 4 }}
      className="mono pointer-events-none fixed z-30 rounded border border-line bg-panel px-2 py-1 shadow"
    >
      {exact(tip.at, zone)}
    </div>
  );
}
