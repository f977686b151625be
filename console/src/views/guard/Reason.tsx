// Why somebody does something, for those who wonder.
type Props = { value: string; onType: (text: string) => void };

export function Reason({ value, onType }: Props) {
  return (
    <label className="mt-2 block text-[13px]">
      Why, for those who wonder
      <input
        className="mt-1 block w-full rounded-md border border-line bg-panel px-2 py-1 text-ink"
        maxLength={300}
        value={value}
        onChange={(event) => onType(event.target.value)}
      />
    </label>
  );
}
