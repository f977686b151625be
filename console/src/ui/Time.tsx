// Times on a page: short where they stand, exact by hover and by focus, in the zone that is chosen.
import { Tooltip } from 'radix-ui';
import { useEffect, useRef, useState } from 'react';
import { between, clock, exact } from './time';
import { useNow } from './useNow';
import { useZone } from './zone';

type TimeProps = { at: string; age?: boolean; until?: string | null };

/** A time as a clock reading or an age. What it stands in shows the exact time when it has the focus; one that stands for
    itself can have the focus itself. */
export function Time({ at, age, until }: TimeProps) {
  const lasting = age || until !== undefined;
  const now = useNow(lasting && !until);
  const zone = useZone();
  const place = useRef<HTMLTimeElement>(null);
  const [hovered, setHovered] = useState(false);
  const [focused, setFocused] = useState(false);
  useEffect(() => {
    const around = place.current?.parentElement?.closest('a, button, [role=row]');
    const host = around ?? place.current;
    if (!around) place.current?.setAttribute('tabindex', '0');
    const shown = (event: Event) => setFocused((event.target as Element).matches(':focus-visible'));
    const hidden = () => setFocused(false);
    host?.addEventListener('focusin', shown);
    host?.addEventListener('focusout', hidden);
    return () => {
      host?.removeEventListener('focusin', shown);
      host?.removeEventListener('focusout', hidden);
    };
  }, []);
  const fresh = age && now - Date.parse(at) < 1000;
  const shown = fresh ? 'under 1 s' : lasting ? between(at, until, now) : clock(at, zone);
  return (
    <Tooltip.Root open={hovered || focused} onOpenChange={setHovered}>
      <Tooltip.Trigger asChild>
        <time ref={place} dateTime={at} className="whitespace-nowrap">
          {shown}
        </time>
      </Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          sideOffset={4}
          className="mono pointer-events-none z-10 rounded border border-line bg-panel px-2 py-1 shadow"
        >
          {exact(at, zone)}
        </Tooltip.Content>
      </Tooltip.Portal>
    </Tooltip.Root>
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

/** A time of the day with its zone. */
export function Clock({ at }: { at: string }) {
  const zone = useZone();
  return (
    <time dateTime={at} title={exact(at, zone)} className="whitespace-nowrap">
      {clock(at, zone)}
    </time>
  );
}
