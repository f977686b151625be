// Light or dark; the system's choice until somebody makes their own.
import { Switch } from 'radix-ui';
import { useState } from 'react';

export function ThemeSwitch() {
  const root = document.documentElement;
  const [dark, setDark] = useState(root.dataset.theme === 'dark');
  const choose = (dark: boolean) => {
    root.dataset.theme = dark ? 'dark' : 'light';
    localStorage.setItem('arvok-theme', root.dataset.theme);
    setDark(dark);
  };
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
