// In which zone times are told.
import { zoneName } from '../ui/time';
import { setZone, useZone, zone } from '../ui/zone';

export const turnZone = () => setZone(zone() === 'UTC' ? 'local' : 'UTC');

export function ZoneSwitch() {
  const now = useZone();
  const shown = now === 'UTC' ? 'UTC' : `local, ${zoneName()}`;
  const other = now === 'UTC' ? 'local' : 'UTC';
  return (
    <button
      type="button"
      className="rounded px-1 hover:bg-panel hover:text-ink"
      title={`Times are in ${zoneName()}. Press for ${other === 'UTC' ? 'UTC' : 'the time of this machine'}.`}
      aria-label={`${shown}: times are told so; change to ${other === 'UTC' ? 'UTC' : 'local time'}`}
      onClick={turnZone}
    >
      {shown}
    </button>
  );
}
