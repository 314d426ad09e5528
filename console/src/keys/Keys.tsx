// Keys: who may sign in, which tokens open the API, which keys sign links.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type ReactNode } from "react";
import { addKey, addPerson, addToken, getSession, listKeys, listPeople, listSites, listTokens, removeKey, removePerson, removeToken, setPassword } from "../api/calls";
import { words } from "../api/words";
import { Button } from "../parts/Button";
import { Choice, options } from "../parts/Choice";
import { Field, Labelled } from "../parts/Field";
import { whenText } from "../parts/figures";
import { Once } from "../parts/Once";
import { Pick } from "../parts/Pick";
import { Trouble } from "../parts/Trouble";
import { Destroy } from "../parts/Window";
import { Wide } from "../parts/Wide";

type Right = (typeof words.Token.may)[number];
const rights = options(words.Token.may);
const ofSites = (sites: string[]) => (sites.length ? sites.join(", ") : "all sites");
const readSites = (text: string) => text.split(",").map((s) => s.trim()).filter(Boolean);

export function Keys() {
  const session = useQuery({ queryKey: ["session"], queryFn: ({ signal }) => getSession(signal) });
  const owner = session.data?.may === "own";
  return (
    <div className="flex flex-col gap-8 overflow-y-auto p-4">
      <h1 className="text-lg font-semibold">Keys</h1>
      {owner ? (
        <>
          <People />
          <Tokens />
        </>
      ) : (
        <p className="text-soft">People and tokens are shown to owners.</p>
      )}
      <SigningKeys />
      <Password who={session.data?.who ?? ""} />
    </div>
  );
}

// A table of things that are there, and a form for one more.
function Block(props: { title: string; about: string; heads: string[]; rows: ReactNode[][] | undefined; empty: string; error: Error | null | undefined; children: ReactNode; onAdd: () => void }) {
  return (
    <section aria-label={props.title} className="flex max-w-4xl flex-col gap-2">
      <h2 className="font-semibold">{props.title}</h2>
      <p className="text-soft">{props.about}</p>
      {props.rows?.length === 0 && <p>{props.empty}</p>}
      {props.rows && props.rows.length > 0 && (
        <Wide label={`All of ${props.title.toLowerCase()}`}>
          <table className="w-full text-left">
            <thead className="text-soft">
              <tr>
                {props.heads.map((h) => (
                  <th key={h} className="py-1 pr-4 font-normal">
                    {h}
                  </th>
                ))}
                <th>
                  <span className="sr-only">Remove</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {props.rows.map((r, i) => (
                <tr key={i} className="border-t border-line">
                  {r.map((cell, j) => (
                    <td key={j} className={"py-1.5 pr-4 " + (j === r.length - 1 ? "text-right" : "")}>
                      {cell}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
        </Wide>
      )}
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          props.onAdd();
        }}
      >
        {props.children}
      </form>
      {props.error && <Trouble error={props.error} />}
    </section>
  );
}

function People() {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["people"], queryFn: ({ signal }) => listPeople(signal) });
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [may, setMay] = useState<Right>("edit");
  const [sites, setSites] = useState("");
  const [error, setError] = useState<Error>();
  const again = () => queries.invalidateQueries({ queryKey: ["people"] });
  return (
    <Block
      title="People"
      about="People who may sign in here. Read may look, edit may change sites, own may also add and remove sites, tokens and people."
      heads={["name", "may", "on", "since"]}
      rows={list.data?.map((p) => [
        p.name,
        p.may,
        ofSites(p.sites),
        <span className="figures text-sm">{whenText(p.made_at)}</span>,
        <Destroy what="Remove" question={`Remove ${p.name}?`} detail="Their sessions end at once. What they changed stays." onSure={() => removePerson(p.id).then(again)} />,
      ])}
      empty="Nobody yet."
      error={list.error ?? error}
      onAdd={() =>
        addPerson({ name, password, may, sites: readSites(sites) }).then(() => {
          setName("");
          setPassword("");
          setError(undefined);
          void again();
        }, setError)
      }
    >
      <Field label="Name" value={name} onChange={setName} />
      <Field label="Password" type="password" autoComplete="new-password" value={password} onChange={setPassword} />
      <Labelled label="May">
        <Choice label="What they may" value={may} options={rights} onChange={setMay} />
      </Labelled>
      <Field label="Sites" value={sites} onChange={setSites} placeholder="all" />
      <Button type="submit" kind="main">
        Add
      </Button>
    </Block>
  );
}

function Tokens() {
  const queries = useQueryClient();
  const list = useQuery({ queryKey: ["tokens"], queryFn: ({ signal }) => listTokens(signal) });
  const [name, setName] = useState("");
  const [may, setMay] = useState<Right>("read");
  const [sites, setSites] = useState("");
  const [secret, setSecret] = useState<string>();
  const [error, setError] = useState<Error>();
  const again = () => queries.invalidateQueries({ queryKey: ["tokens"] });
  return (
    <>
      <Block
        title="Tokens"
        about="Programs call the API with tokens. Only their digests are kept."
        heads={["name", "may", "on", "made", "last used"]}
        rows={list.data?.map((t) => [
          t.name,
          t.may,
          ofSites(t.sites),
          <span className="figures text-sm">{whenText(t.made_at)}</span>,
          <span className="figures text-sm">{t.used_at ? whenText(t.used_at) : "never"}</span>,
          <Destroy what="Revoke" question={`Revoke ${t.name}?`} detail="Whatever uses this token is refused at once." onSure={() => removeToken(t.id).then(again)} />,
        ])}
        empty="No token yet."
        error={list.error ?? error}
        onAdd={() =>
          addToken({ name, may, sites: readSites(sites) }).then((t) => {
            setSecret(t.secret);
            setName("");
            setError(undefined);
            void again();
          }, setError)
        }
      >
        <Field label="What it is for" value={name} onChange={setName} placeholder="build server" />
        <Labelled label="May">
          <Choice label="What the token may" value={may} options={rights} onChange={setMay} />
        </Labelled>
        <Field label="Sites" value={sites} onChange={setSites} placeholder="all" />
        <Button type="submit" kind="main">
          Make a token
        </Button>
      </Block>
      <Once title="The new token" secret={secret} onClose={() => setSecret(undefined)} />
    </>
  );
}

function SigningKeys() {
  const queries = useQueryClient();
  const sites = useQuery({ queryKey: ["sites"], queryFn: ({ signal }) => listSites(signal) });
  const [chosen, setChosen] = useState<string>();
  const site = chosen ?? sites.data?.[0]?.name ?? "";
  const list = useQuery({ queryKey: ["keys", site], queryFn: ({ signal }) => listKeys(site, signal), enabled: site !== "" });
  const [id, setID] = useState("");
  const [secret, setSecret] = useState<string>();
  const [error, setError] = useState<Error>();
  const again = () => queries.invalidateQueries({ queryKey: ["keys"] });
  return (
    <>
      <Block
        title="Signing keys"
        about="Keys sign a site's links. Several are valid at once: add the next before you revoke the last."
        heads={["key", "made", "by"]}
        rows={list.data?.map((k) => [
          <span className="figures">{k.id}</span>,
          <span className="figures text-sm">{whenText(k.made_at)}</span>,
          k.made_by,
          <Destroy what="Revoke" question={`Revoke ${k.id}?`} detail={`Every link of ${site} that it signed stops working at once.`} onSure={() => removeKey(site, k.id).then(again)} />,
        ])}
        empty="No key yet: this site's links can't be signed."
        error={list.error ?? error}
        onAdd={() =>
          addKey(site, { id }).then((k) => {
            setSecret(k.secret);
            setID("");
            setError(undefined);
            void again();
          }, setError)
        }
      >
        <Labelled label="Site">
          <Pick label="Site of the keys" value={site} options={(sites.data ?? []).map((s) => ({ value: s.name, text: s.name }))} onChange={setChosen} />
        </Labelled>
        <Field label="Name of the key" value={id} onChange={setID} placeholder="spring-2027" />
        <Button type="submit" kind="main" disabled={!site}>
          Make a key
        </Button>
      </Block>
      <Once title="The new key's secret" secret={secret} onClose={() => setSecret(undefined)} />
    </>
  );
}

function Password({ who }: { who: string }) {
  const [before, setBefore] = useState("");
  const [after, setAfter] = useState("");
  const [error, setError] = useState<Error>();
  const [done, setDone] = useState(false);
  return (
    <section aria-label="Your password" className="flex max-w-4xl flex-col gap-2">
      <h2 className="font-semibold">Your password</h2>
      <form
        className="flex flex-wrap items-end gap-3"
        onSubmit={(e) => {
          e.preventDefault();
          setPassword({ old: before, new: after }).then(() => (setDone(true), setError(undefined), setBefore(""), setAfter("")), setError);
        }}
      >
        <input type="text" autoComplete="username" value={who} readOnly hidden />
        <Field label="Current password" type="password" autoComplete="current-password" value={before} onChange={setBefore} />
        <Field label="New password" type="password" autoComplete="new-password" value={after} onChange={setAfter} />
        <Button type="submit">Change it</Button>
        {done && <span role="status">Changed. Your other sessions have ended.</span>}
      </form>
      {error && <Trouble error={error} />}
    </section>
  );
}
