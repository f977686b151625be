// The time, kept fresh once a second for what says how long ago something was; one clock for all of it.
import { useSyncExternalStore } from 'react';

const followers = new Set<() => void>();
let now = Date.now();
let timer: ReturnType<typeof setInterval> | undefined;

const tick = () => {
  now = Date.now();
  for (const follower of followers) follower();
};

const follow = (follower: () => void) => {
  if (followers.size === 0) {
    now = Date.now();
    timer = setInterval(tick, 1000);
  }
  followers.add(follower);
  return () => {
    followers.delete(follower);
    if (followers.size === 0) clearInterval(timer);
  };
};

const still = () => () => undefined;

/** The time; `moves` says whether what is drawn with it grows older. */
export const useNow = (moves = true) =>
  useSyncExternalStore(moves ? follow : still, () => (moves ? now : 0));
