import { Collapsible } from "radix-ui";
import { useState, type ReactNode } from "react";

// A group of controls that opens where something in it is declared, or when asked.
export function Section(props: { title: string; declared: number; children: ReactNode }) {
  const [open, setOpen] = useState(props.declared > 0);
  return (
    <Collapsible.Root open={open} onOpenChange={setOpen} className="border-t border-line pt-3">
      <Collapsible.Trigger className="flex w-full items-center justify-between text-left font-semibold">
        <span>{props.title}</span>
        <span className="figures text-xs font-normal text-soft">
          {props.declared > 0 ? `${props.declared} set ` : ""}
          {open ? "▴" : "▾"}
        </span>
      </Collapsible.Trigger>
      <Collapsible.Content>
        <fieldset aria-label={props.title} className="mt-2 flex min-w-0 flex-col gap-2">
          {props.children}
        </fieldset>
      </Collapsible.Content>
    </Collapsible.Root>
  );
}
