// One value that is given by hand: a field by its JSON Schema.
import { useQuery } from '@tanstack/react-query';
import { vocabulary } from '../../api/client';
import type { Field } from './inputs';

export const BOX = 'w-full rounded-md border border-line bg-panel px-2 py-1';

type Props = {
  field: Field;
  value: string;
  onType: (text: string) => void;
  /** What is wrong with it. */
  wrong?: string | undefined;
};

export function InputField({ field, value, onType, wrong }: Props) {
  const words = useQuery({
    queryKey: ['vocabulary'],
    queryFn: vocabulary,
    enabled: field.kind === 'resource',
  });
  const id = `input-${field.name}`;
  const list = `of-${field.name}`;
  const said = {
    id,
    'aria-invalid': wrong !== undefined,
    'aria-describedby': wrong ? `${id}-wrong` : undefined,
  };
  return (
    <div className="flex flex-col gap-1">
      <label htmlFor={id}>
        <code>{field.name}</code>
        {!field.must && <span className="text-[12px] text-ink-3"> may be left out</span>}
      </label>
      {field.kind === 'choice' || field.kind === 'truth' ? (
        <select {...said} className={BOX} value={value} onChange={(e) => onType(e.target.value)}>
          {value === '' && <option value="" />}
          {field.choices.map((choice) => (
            <option key={choice}>{choice}</option>
          ))}
        </select>
      ) : field.kind === 'json' ? (
        <textarea
          {...said}
          className={`${BOX} mono`}
          rows={3}
          value={value}
          onChange={(e) => onType(e.target.value)}
        />
      ) : (
        <input
          {...said}
          className={BOX}
          inputMode={field.kind === 'number' ? 'decimal' : undefined}
          list={field.kind === 'resource' ? list : undefined}
          value={value}
          onChange={(e) => onType(e.target.value)}
        />
      )}
      {field.kind === 'resource' && (
        <datalist id={list}>
          {words.data?.resources.map((resource) => (
            <option key={resource} value={resource} />
          ))}
        </datalist>
      )}
      {wrong && (
        <span id={`${id}-wrong`} role="alert" className="text-[13px] text-bad">
          {wrong}
        </span>
      )}
      {field.about && <span className="text-[12px] text-ink-3">{field.about}</span>}
    </div>
  );
}
