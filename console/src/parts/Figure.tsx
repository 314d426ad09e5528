import { Link } from "./Link";

// A figure of a row of figures, with what it is made of below it. Where it leads on, it's a link.
export function Figure(props: { name: string; value: string; more: string; href?: string }) {
  return (
    <div className="bg-ground p-3">
      <dt className="text-soft">{props.name}</dt>
      <dd>
        <span className="figures text-xl">
          {props.href ? (
            <Link className="underline decoration-line underline-offset-4 hover:decoration-accent" href={props.href}>
              {props.value}
            </Link>
          ) : (
            props.value
          )}
        </span>
        <span className="block text-xs text-soft">{props.more}</span>
      </dd>
    </div>
  );
}
