import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { signIn, useLink as takeLink } from "../api/calls";
import { type Session } from "../api/client";
import { Button } from "../parts/Button";
import { Field } from "../parts/Field";
import { Trouble } from "../parts/Trouble";
import { addressOf, go, useAddress } from "./address";

// The door: name and password, or a one-time link. Where nobody owns the service yet, its link makes the owner.
export function SignIn({ owned }: { owned: boolean }) {
  const address = useAddress();
  const link = address.place === "enter" ? (address.query.get("link") ?? "") : "";
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const queries = useQueryClient();
  const entered = (s: Session) => {
    queries.setQueryData(["session"], s);
    if (address.place === "enter") go(addressOf("today"), true);
  };
  const enter = useMutation({
    mutationFn: () => (link ? takeLink(owned ? { link } : { link, name, password }) : signIn({ name, password })),
    onSuccess: entered,
  });
  const byLinkAlone = link !== "" && owned;
  useEffect(() => {
    if (byLinkAlone) enter.mutate();
    // once for a link
  }, [byLinkAlone, link]);
  if (byLinkAlone && !enter.error) return <p className="m-auto p-8">Signing in…</p>;
  const first = link !== "" && !owned;
  return (
    <form
      className="m-auto flex w-80 flex-col gap-3 p-6"
      onSubmit={(e) => {
        e.preventDefault();
        enter.mutate();
      }}
    >
      <h1 className="text-lg font-semibold">{first ? "Become the owner" : "Sign in"}</h1>
      {first && <p>Nobody owns this service yet. Choose a name and a password of at least 10 characters.</p>}
      {!owned && !link && <p>Nobody owns this service yet. Open the link that it printed when it started.</p>}
      {!byLinkAlone && (
        <>
          <Field label="Name" value={name} onChange={setName} autoComplete="username" required />
          <Field label="Password" type="password" value={password} onChange={setPassword} autoComplete={first ? "new-password" : "current-password"} required />
          <Button type="submit" kind="main" disabled={enter.isPending}>
            {first ? "Become the owner" : "Sign in"}
          </Button>
        </>
      )}
      {enter.error && <Trouble error={enter.error} />}
      {byLinkAlone && (
        <a className="text-accent underline" href={addressOf("today")}>
          Sign in by name
        </a>
      )}
    </form>
  );
}
