import { useEffect, useId, useState, type HTMLInputTypeAttribute } from "react";

const look = "w-full border border-edge bg-ground px-2 py-1 placeholder:text-soft";

// A labelled line of text.
export function Field(props: {
  label: string;
  value: string;
  onChange: (v: string) => void;
  hint?: string;
  type?: HTMLInputTypeAttribute;
  placeholder?: string;
  autoComplete?: string;
  required?: boolean;
}) {
  const id = useId();
  return (
    <div>
      <label htmlFor={id} className="block text-soft">
        {props.label}
      </label>
      <input
        id={id}
        type={props.type ?? "text"}
        value={props.value}
        placeholder={props.placeholder}
        autoComplete={props.autoComplete ?? "off"}
        required={props.required}
        spellCheck={false}
        aria-describedby={props.hint ? id + "h" : undefined}
        onChange={(e) => props.onChange(e.target.value)}
        className={look}
      />
      {props.hint && (
        <p id={id + "h"} className="mt-0.5 text-xs break-words text-soft">
          {props.hint}
        </p>
      )}
    </div>
  );
}

// A labelled whole or broken number. What can't be read as one isn't passed on.
export function NumberField(props: { label: string; value: number; onChange: (v: number) => void; hint?: string }) {
  const [text, setText] = useState(String(props.value));
  useEffect(() => setText((t) => (Number(t) === props.value ? t : String(props.value))), [props.value]);
  return (
    <Field
      label={props.label}
      hint={props.hint}
      value={text}
      onChange={(t) => {
        setText(t);
        if (t.trim() !== "" && Number.isFinite(Number(t))) props.onChange(Number(t));
      }}
    />
  );
}

// A labelled list, one entry a line.
export function ListField(props: { label: string; value: string[]; onChange: (v: string[]) => void; hint?: string }) {
  const id = useId();
  const [text, setText] = useState(props.value.join("\n"));
  const read = (t: string) => t.split("\n").map((l) => l.trim()).filter(Boolean);
  useEffect(() => setText((t) => (read(t).join("\n") === props.value.join("\n") ? t : props.value.join("\n"))), [props.value]);
  return (
    <div>
      <label htmlFor={id} className="block text-soft">
        {props.label}
      </label>
      <textarea
        id={id}
        rows={Math.max(2, Math.min(8, text.split("\n").length))}
        value={text}
        spellCheck={false}
        aria-describedby={props.hint ? id + "h" : undefined}
        onChange={(e) => {
          setText(e.target.value);
          props.onChange(read(e.target.value));
        }}
        className={look + " figures"}
      />
      {props.hint && (
        <p id={id + "h"} className="mt-0.5 text-xs break-words text-soft">
          {props.hint}
        </p>
      )}
    </div>
  );
}

// A choice of words with its label above.
export function Labelled(props: { label: string; hint?: string; children: React.ReactNode }) {
  return (
    <div>
      <span className="block text-soft">{props.label}</span>
      {props.children}
      {props.hint && <span className="block text-xs text-soft">{props.hint}</span>}
    </div>
  );
}
