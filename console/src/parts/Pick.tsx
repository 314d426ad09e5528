import { Select } from "radix-ui";

// One of many, from a list that opens.
export function Pick(props: {
  label: string;
  value: string;
  options: { value: string; text: string }[];
  onChange: (value: string) => void;
  wide?: boolean;
}) {
  return (
    <Select.Root value={props.value} onValueChange={props.onChange}>
      <Select.Trigger
        aria-label={props.label}
        className={"flex items-center justify-between gap-2 border border-edge px-2 py-1 text-left " + (props.wide ? "w-full" : "")}
      >
        <Select.Value />
        <Select.Icon className="text-soft">▾</Select.Icon>
      </Select.Trigger>
      <Select.Portal>
        <Select.Content position="popper" sideOffset={2} className="z-10 max-h-80 min-w-(--radix-select-trigger-width) border border-edge bg-ground">
          <Select.Viewport>
            {props.options.map((o) => (
              <Select.Item
                key={o.value}
                value={o.value}
                className="px-2 py-1 outline-none data-[highlighted]:bg-accent data-[highlighted]:text-on-accent"
              >
                <Select.ItemText>{o.text}</Select.ItemText>
              </Select.Item>
            ))}
          </Select.Viewport>
        </Select.Content>
      </Select.Portal>
    </Select.Root>
  );
}
