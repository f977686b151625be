// Choices that filter a list; they live in the address, so a list can be shared.
import { Select } from 'radix-ui';
import { useSearchParams } from 'react-router';

const ANY = 'any';

export function Filter({
  name,
  label,
  options,
}: {
  name: string;
  label: string;
  options: readonly string[];
}) {
  const [params, setParams] = useSearchParams();
  const value = params.get(name) ?? ANY;
  const choose = (chosen: string) =>
    setParams((before) => {
      const next = new URLSearchParams(before);
      if (chosen === ANY) next.delete(name);
      else next.set(name, chosen);
      return next;
    });
  const known = value === ANY || options.includes(value) ? options : [...options, value];
  return (
    <Select.Root value={value} onValueChange={choose}>
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
            {[ANY, ...known].map((option) => (
              <Select.Item
                key={option}
                value={option}
                className="cursor-default rounded px-2.5 py-1 text-[13px] outline-none data-[highlighted]:bg-sea-soft data-[highlighted]:text-sea"
              >
                <Select.ItemText>{option}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}

export function Search({ label }: { label: string }) {
  const [params, setParams] = useSearchParams();
  return (
    <input
      type="search"
      aria-label={label}
      placeholder={label}
      defaultValue={params.get('text') ?? ''}
      onChange={(event) => {
        const text = event.target.value;
        setParams(
          (before) => {
            const next = new URLSearchParams(before);
            if (text) next.set('text', text);
            else next.delete('text');
            return next;
          },
          { replace: true },
        );
      }}
      className="w-44 rounded-md border border-line bg-panel px-2.5 py-1 text-[13px] placeholder:text-ink-3"
    />
  );
}
