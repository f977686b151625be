// A value that is written as JSON.
import { useId } from 'react';

type JsonFieldProps = {
  label: string;
  text: string;
  /** Lines that are shown. */
  rows: number;
  onChange: (text: string) => void;
};

export function JsonField({ label, text, rows, onChange }: JsonFieldProps) {
  const id = useId();
  return (
    <>
      <label htmlFor={id} className="text-[13px] text-ink-2">
        {label}
      </label>
      <textarea
        id={id}
        value={text}
        rows={rows}
        spellCheck={false}
        onChange={(event) => onChange(event.target.value)}
        className="mono w-full rounded-md border border-line bg-panel px-2.5 py-1.5 text-[12.5px] focus:border-sea"
      />
    </>
  );
}

/** What a text says as JSON; the error names what it was to be. */
export function readJson(text: string, what: string) {
  try {
    return JSON.parse(text);
  } catch (error) {
    throw new Error(`${what}: this is not JSON: ${(error as Error).message}`);
  }
}
