// Choices that filter a list: they stand in the address, so that a list can be shared, and each can be let go again.
import { useQuery } from '@tanstack/react-query';
import { Popover, Select } from 'radix-ui';
import { type FormEvent, useEffect, useId, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';
import { definitions, vocabulary } from '../api/client';
import { Button } from './parts';
import { exact } from './time';
import { useZone } from './zone';

const ANY = 'any';
const FIELD =
  'rounded-md border border-line bg-panel px-2.5 py-1 text-[13px] placeholder:text-ink-3 focus:border-sea';

/** Changes single parts of the address; what is undefined goes. */
export function useAddress() {
  const [params, setParams] = useSearchParams();
  const change = (set: Record<string, string | undefined>, replace = false) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        for (const [name, value] of Object.entries(set)) {
          if (value === undefined || value === '') next.delete(name);
          else next.set(name, value);
        }
        return next;
      },
      { replace },
    );
  return { params, change };
}

type FilterProps = {
  name: string;
  label: string;
  options: readonly string[];
  /** What is chosen where the address says nothing. */
  usual?: string;
  /** How options are called, where that is not by themselves. */
  called?: Record<string, string>;
};

export function Filter({ name, label, options, usual = ANY, called = {} }: FilterProps) {
  const { params, change } = useAddress();
  const value = params.get(name) ?? usual;
  const all = [ANY, ...options];
  const known = all.includes(value) ? all : [...all, value];
  return (
    <Select.Root
      value={value}
      onValueChange={(to) => change({ [name]: to === usual ? undefined : to })}
    >
      <Select.Trigger
        aria-label={label}
        className="flex items-center gap-1.5 rounded-md border border-line bg-panel px-2.5 py-1 text-[13px] hover:bg-sunk"
      >
        <span className="text-ink-2">{label}</span>
        <b className="font-semibold">
          <Select.Value />
        </b>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content
          position="popper"
          sideOffset={4}
          className="z-10 rounded-md border border-line bg-panel p-1 shadow-lg"
        >
          <Select.Viewport>
            {known.map((option) => (
              <Select.Item
                key={option}
                value={option}
                className="cursor-default rounded px-2.5 py-1 text-[13px] outline-none data-[highlighted]:bg-sea-soft data-[highlighted]:text-sea"
              >
                <Select.ItemText>{called[option] ?? option}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}

/** Whether trials are listed as well, alone, or not at all. */
export function Trials() {
  const called = { any: 'as well', true: 'alone', false: 'left out' };
  return <Filter name="trial" label="Trials" options={['true', 'false']} called={called} />;
}

/** How long typing rests before the list is asked, in milliseconds. */
const TYPED = 200;

export function Search({ label }: { label: string }) {
  const { params, change } = useAddress();
  const stands = params.get('text') ?? '';
  const [typed, setTyped] = useState(stands);
  const sent = useRef(stands);
  const timer = useRef<ReturnType<typeof setTimeout>>(undefined);
  // The field follows the address wherever that is changed by something else.
  useEffect(() => {
    if (stands === sent.current) return;
    clearTimeout(timer.current);
    sent.current = stands;
    setTyped(stands);
  }, [stands]);
  const type = (text: string) => {
    setTyped(text);
    clearTimeout(timer.current);
    timer.current = setTimeout(() => {
      sent.current = text.trim();
      change({ text: text.trim() }, true);
    }, TYPED);
  };
  useEffect(() => () => clearTimeout(timer.current), []);
  return (
    <input
      type="search"
      aria-label={label}
      placeholder={label}
      value={typed}
      onChange={(event) => type(event.target.value)}
      className={`${FIELD} w-44`}
    />
  );
}

/** Of a list that is there whole, what has the text of the address. */
export function useFound<T>(items: T[], text: (item: T) => string): T[] {
  const [params] = useSearchParams();
  const words = (params.get('text') ?? '').toLowerCase().split(/\s+/).filter(Boolean);
  if (words.length === 0) return items;
  return items.filter((item) => words.every((word) => text(item).toLowerCase().includes(word)));
}

/** What a list can be narrowed to by a word that is typed. */
export type Narrowing = 'source' | 'kind' | 'resource' | 'target' | 'rule' | 'runbook' | 'by';

const CALLED: Record<string, string> = { by: 'launched by' };
const called = (name: string) => CALLED[name] ?? name;

/** What each is completed from. */
function useWords(name: string): string[] {
  const words = useQuery({
    queryKey: ['vocabulary'],
    queryFn: vocabulary,
    enabled: ['source', 'kind', 'resource', 'target'].includes(name),
    staleTime: 60_000,
  });
  const kind = name === 'rule' || name === 'runbook' ? name : undefined;
  const published = useQuery({
    queryKey: ['definitions', kind],
    queryFn: () => definitions(kind ?? ''),
    enabled: kind !== undefined,
  });
  if (kind) return published.data?.items.map((item) => item.name) ?? [];
  if (name === 'source') return words.data?.sources ?? [];
  if (name === 'kind') return words.data?.kinds ?? [];
  return words.data?.resources ?? [];
}

/** Narrows a list by a word that is typed. */
export function Narrow({ by }: { by: readonly Narrowing[] }) {
  const { change } = useAddress();
  const [open, setOpen] = useState(false);
  const [name, setName] = useState<string>(by[0] ?? 'source');
  const [value, setValue] = useState('');
  const words = useWords(name);
  const list = useId();
  const narrow = (event: FormEvent) => {
    event.preventDefault();
    if (!value.trim()) return;
    change({ [name]: value.trim() });
    setValue('');
    setOpen(false);
  };
  return (
    <Popover.Root open={open} onOpenChange={setOpen}>
      <Popover.Trigger asChild>
        <Button>Narrow…</Button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content
          align="end"
          sideOffset={4}
          aria-label="Narrow the list"
          className="z-10 rounded-md border border-line bg-panel p-3 shadow-lg"
        >
          <form onSubmit={narrow} className="flex flex-wrap items-center gap-2">
            <select
              aria-label="By"
              className={FIELD}
              value={name}
              onChange={(event) => setName(event.target.value)}
            >
              {by.map((one) => (
                <option key={one} value={one}>
                  {called(one)}
                </option>
              ))}
            </select>
            <input
              aria-label={called(name)}
              className={`${FIELD} w-56`}
              list={list}
              value={value}
              onChange={(event) => setValue(event.target.value)}
            />
            <datalist id={list}>
              {words.map((word) => (
                <option key={word} value={word} />
              ))}
            </datalist>
            <Button type="submit" look="go" disabled={!value.trim()}>
              Show
            </Button>
          </form>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}

/** Parts of an address that filter nothing. */
const APART = ['window', 'sort', 'view'];

/** A time of the address as people read it. */
const moment = (name: string, value: string) =>
  (name === 'since' || name === 'until') && !Number.isNaN(Date.parse(value))
    ? `${name} ${exact(value)}`
    : undefined;

type ChipsProps = {
  /** What the list knows. */
  known: readonly string[];
  /** Those that are shown by a choice of their own. */
  chosen?: readonly string[];
  shown?: (name: string, value: string) => string | undefined;
};

/** What a list is narrowed to, each to be let go; and what the address asks for that the list does not know. */
export function Chips({ known, chosen = [], shown }: ChipsProps) {
  const { params, change } = useAddress();
  useZone();
  const asked = [...params.keys()].filter((name) => !APART.includes(name) && params.get(name));
  const chips = asked.filter((name) => known.includes(name) && !chosen.includes(name));
  const unknown = asked.filter((name) => !known.includes(name));
  if (chips.length === 0 && unknown.length === 0) return null;
  return (
    <div className="flex flex-wrap items-center gap-1.5 text-[13px]">
      {chips.map((name) => {
        const value = params.get(name) ?? '';
        const text = shown?.(name, value) ?? moment(name, value) ?? `${called(name)} ${value}`;
        return (
          <button
            key={name}
            type="button"
            aria-label={`Without ${text}`}
            onClick={() => change({ [name]: undefined })}
            className="flex items-center gap-1.5 rounded-md bg-sea-soft px-2 py-0.5 text-sea hover:underline"
          >
            {text} <span aria-hidden="true">×</span>
          </button>
        );
      })}
      {unknown.map((name) => (
        <p key={name} role="alert" className="rounded-md bg-warn-soft px-2 py-0.5 text-warn">
          This list cannot be narrowed by <code>{name}</code>; by {known.join(', ')} it can.{' '}
          <button type="button" className="underline" onClick={() => change({ [name]: undefined })}>
            Leave it out
          </button>
        </p>
      ))}
      {chips.length > 1 && (
        <button
          type="button"
          className="text-ink-2 underline"
          onClick={() => change(Object.fromEntries(chips.map((name) => [name, undefined])))}
        >
          Clear all
        </button>
      )}
    </div>
  );
}
