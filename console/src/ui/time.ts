// Times for people: exact, and how long ago.
export const clock = (t: string) =>
  new Date(t).toLocaleTimeString([], {
    hour: '2-digit',
    minute: '2-digit',
    second: '2-digit',
    hour12: false,
  });

export const exact = (t: string) => `${new Date(t).toISOString().slice(0, 19).replace('T', ' ')} UTC`;

export function rough(ms: number): string {
  const s = Math.max(0, ms) / 1000;
  if (s < 10) return s < 1 ? `${Math.round(s * 1000)} ms` : `${s.toFixed(1)} s`;
  if (s < 60) return `${Math.floor(s)} s`;
  if (s < 600) return `${Math.floor(s / 60)} min ${Math.floor(s % 60)} s`;
  if (s < 3600) return `${Math.floor(s / 60)} min`;
  if (s < 86400) return `${Math.floor(s / 3600)} h ${Math.floor((s % 3600) / 60)} min`;
  return `${Math.floor(s / 86400)} d ${Math.floor((s % 86400) / 3600)} h`;
}

export const between = (from: string, to: string | null | undefined, now: number) =>
  rough((to ? Date.parse(to) : now) - Date.parse(from));
