// Numbers in words.
/** So many of something, in words that agree. */
export const some = (n: number, what: string, whats = `${what}s`) =>
  n === 1 ? `1 ${what}` : `${n.toLocaleString('en')} ${whats}`;

/** A number that is counted up to a bound. */
export const upTo = (n: number, most: number) => n.toLocaleString('en') + (n >= most ? '+' : '');

const UNITS = ['B', 'KiB', 'MiB', 'GiB', 'TiB'];

/** Bytes in the unit that suits them. */
export function bytes(n: number): string {
  const unit = Math.min(Math.floor(Math.log2(Math.max(n, 1)) / 10), UNITS.length - 1);
  const value = n / 1024 ** unit;
  return `${unit === 0 || value >= 100 ? Math.round(value) : value.toFixed(1)} ${UNITS[unit]}`;
}
