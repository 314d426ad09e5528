import { ToggleGroup } from "radix-ui";

// One of a few, all in view. Arrow keys move.
export function Choice<T extends string>(props: {
  label: string;
  value: T;
  options: { value: T; text: string }[];
  onChange: (value: T) => void;
}) {
  return (
    <ToggleGroup.Root
      type="single"
      aria-label={props.label}
      value={props.value}
      onValueChange={(v) => v && props.onChange(v as T)}
      className="inline-flex border border-edge"
    >
      {props.options.map((o) => (
        <ToggleGroup.Item
          key={o.value}
          value={o.value}
          className="border-r border-line px-2 py-1 last:border-r-0 hover:bg-panel data-[state=on]:bg-accent data-[state=on]:text-on-accent"
        >
          {o.text}
        </ToggleGroup.Item>
      ))}
    </ToggleGroup.Root>
  );
}

// options are words that say themselves what they are.
export const options = <T extends string>(words: readonly T[]) => words.map((w) => ({ value: w, text: w }));
