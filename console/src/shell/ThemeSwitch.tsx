// Light or dark; the system's choice until somebody makes their own.
import { Switch } from 'radix-ui';
import { useSyncExternalStore } from 'react';

const followers = new Set<() => void>();
const isDark = () => document.documentElement.dataset.theme === 'dark';
const follow = (follower: () => void) => {
  followers.add(follower);
  return () => followers.delete(follower);
};

function choose(dark: boolean) {
  const theme = dark ? 'dark' : 'light';
  document.documentElement.dataset.theme = theme;
  localStorage.setItem('arvok-theme', theme);
  for (const follower of followers) follower();
}

export const turnTheme = () => choose(!isDark());

export function ThemeSwitch() {
  const dark = useSyncExternalStore(follow, isDark);
  return (
    <span className="flex items-center gap-2">
      <Switch.Root
        checked={dark}
        onCheckedChange={choose}
        aria-label="Dark"
        className="h-4 w-7 rounded-full border border-line bg-panel p-px data-[state=checked]:bg-sea"
      >
        <Switch.Thumb className="block size-3 rounded-full bg-ink-2 transition-transform data-[state=checked]:translate-x-3 data-[state=checked]:bg-panel" />
      </Switch.Root>
      dark
    </span>
  );
}
