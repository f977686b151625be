// Filters of a list under a name: kept by the browser, and whole in the address, so that they can be passed on.
import { DropdownMenu } from 'radix-ui';
import { type FormEvent, useState } from 'react';
import { useLocation, useNavigate } from 'react-router';
import { Button } from './parts';

const KEY = 'arvok-views';

/** What is kept: by the path of the list and the name, the rest of the address. */
type Kept = Record<string, Record<string, string>>;

function kept(): Kept {
  try {
    return JSON.parse(localStorage.getItem(KEY) ?? '{}') as Kept;
  } catch {
    return {};
  }
}

/** All that are kept, as places to go to. */
export const savedViews = () =>
  Object.entries(kept()).flatMap(([path, views]) =>
    Object.entries(views).map(([name, search]) => ({
      name,
      what: `view of ${path.slice(1)}`,
      to: `${path}?${search}`,
    })),
  );

const ITEM =
  'cursor-default rounded px-2.5 py-1 text-[13px] outline-none data-[highlighted]:bg-sea-soft data-[highlighted]:text-sea';

export function SavedViews() {
  const { pathname, search } = useLocation();
  const go = useNavigate();
  const [all, setAll] = useState(kept);
  const [naming, setNaming] = useState(false);
  const [name, setName] = useState('');
  const own = all[pathname] ?? {};
  const params = new URLSearchParams(search);
  const current = params.get('view');
  const keep = (views: Record<string, string>) => {
    const next = { ...kept(), [pathname]: views };
    localStorage.setItem(KEY, JSON.stringify(next));
    setAll(next);
  };
  const save = (event: FormEvent) => {
    event.preventDefault();
    const called = name.trim();
    if (!called) return;
    params.set('view', called);
    keep({ ...own, [called]: String(params) });
    setNaming(false);
    setName('');
    go(`${pathname}?${params}`, { replace: true });
  };
  const forget = () => {
    if (!current) return;
    const { [current]: _, ...others } = own;
    keep(others);
    params.delete('view');
    go(`${pathname}?${params}`, { replace: true });
  };
  if (naming) {
    return (
      <form onSubmit={save} className="flex items-center gap-2">
        <input
          // biome-ignore lint/a11y/noAutofocus: whoever names a view wants to type
          autoFocus
          aria-label="Name of the view"
          placeholder="Name of the view"
          maxLength={60}
          value={name}
          onChange={(event) => setName(event.target.value)}
          onKeyDown={(event) => event.key === 'Escape' && setNaming(false)}
          className="w-40 rounded-md border border-line bg-panel px-2.5 py-1 text-[13px]"
        />
        <Button type="submit">Save</Button>
      </form>
    );
  }
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <Button>{current ? `View ${current}` : 'Views'}</Button>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content
          align="end"
          sideOffset={4}
          // The field of the name takes the focus.
          onCloseAutoFocus={(event) => naming && event.preventDefault()}
          className="z-10 rounded-md border border-line bg-panel p-1 shadow-lg"
        >
          {Object.entries(own).map(([called, to]) => (
            <DropdownMenu.Item
              key={called}
              className={ITEM}
              onSelect={() => go(`${pathname}?${to}`)}
            >
              {called}
            </DropdownMenu.Item>
          ))}
          <DropdownMenu.Item className={ITEM} disabled={!search} onSelect={() => setNaming(true)}>
            Save this one…
          </DropdownMenu.Item>
          {current && current in own && (
            <DropdownMenu.Item className={ITEM} onSelect={forget}>
              Forget {current}
            </DropdownMenu.Item>
          )}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
  );
}
