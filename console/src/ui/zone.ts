// The time zone in which times are told: that of the browser, or UTC; remembered by the browser.
import { useSyncExternalStore } from 'react';

export type Zone = 'local' | 'UTC';

const KEY = 'arvok-zone';
const followers = new Set<() => void>();
let current: Zone = localStorage.getItem(KEY) === 'UTC' ? 'UTC' : 'local';

export const zone = () => current;

export function setZone(chosen: Zone) {
  current = chosen;
  localStorage.setItem(KEY, chosen);
  for (const follower of followers) follower();
}

const follow = (follower: () => void) => {
  followers.add(follower);
  return () => followers.delete(follower);
};

/** The zone; whatever is drawn with it is drawn anew when it changes. */
export const useZone = () => useSyncExternalStore(follow, zone);
