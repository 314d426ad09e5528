import { useEffect, useState, type ReactNode } from "react";
import type { Facts } from "../api/client";
import { Patient } from "../parts/Patient";
import { Trouble } from "../parts/Trouble";
import { bytesText, msText, pixelsText, savedText } from "../parts/figures";
import { useBlobAddress, type Picture } from "./pictures";

// Original and variant, side by side at the same displayed size, with what each weighs.
export function Compare(props: { original: Picture | undefined; variant: Picture | undefined; standIn: string; natural: Facts | undefined; alpha: boolean; fit: string; busy: boolean; error: Error | null }) {
  const { original, variant } = props;
  const box = variant && { aspectRatio: `${variant.width} / ${variant.height}`, width: `min(100%, ${variant.width}px, calc((100dvh - 21rem) * ${variant.width / variant.height}))` };
  return (
    <div className="flex min-h-0 flex-1 flex-col gap-4 overflow-y-auto p-4">
      {props.error && <Trouble error={props.error} />}
      <div className="grid gap-4 sm:grid-cols-2">
        <Side title="Original" picture={original}>
          {original && box ? (
            <Shown picture={original} box={box} alpha={props.alpha} fit={props.fit === "fill" ? "fill" : "cover"} alt="The original" />
          ) : (
            !props.error && <StandIn address={props.standIn} natural={props.natural} says={props.natural ? `Fetching ${bytesText(props.natural.bytes)}` : "Fetching"} />
          )}
        </Side>
        <Side title="Variant" picture={variant} dim={props.busy}>
          {variant && box ? <Shown picture={variant} box={box} alpha={props.alpha} fit="fill" alt="The variant" /> : !props.error && <StandIn address={props.standIn} natural={props.natural} says="Making it" />}
        </Side>
      </div>
      {original && variant && (
        <p className="border-t border-line pt-3" aria-live="polite">
          <span className="figures text-xl font-semibold text-accent" data-testid="saving">
            {savedText(original.bytes, variant.bytes)}
          </span>{" "}
          <span className="text-soft">
            of the bytes, {savedText(original.width * original.height, variant.width * variant.height)} of the pixels
          </span>
        </p>
      )}
    </div>
  );
}

// A small picture in the place of one that isn't there yet, and how long that has been.
function StandIn(props: { address: string; natural: Facts | undefined; says: string }) {
  const [seconds, set] = useState(0);
  useEffect(() => {
    const began = performance.now();
    const t = setInterval(() => set((performance.now() - began) / 1000), 100);
    return () => clearInterval(t);
  }, []);
  const shape = props.natural ? props.natural.width / props.natural.height : 1.5;
  return (
    <div className="flex flex-col gap-1">
      <Patient src={props.address} alt="" style={{ aspectRatio: shape, width: `min(100%, calc((100dvh - 21rem) * ${shape}))` }} className="bg-panel object-cover opacity-60" />
      <div role="progressbar" aria-label={props.says} aria-valuetext={`${seconds.toFixed(0)} s`} className="h-1 overflow-hidden bg-panel">
        <div className="h-full w-1/4 bg-accent motion-safe:animate-[run_1.2s_linear_infinite]" />
      </div>
      <p className="figures text-sm text-soft">
        {props.says} … {seconds.toFixed(1)} s
      </p>
    </div>
  );
}

function Shown(props: { picture: Picture; box: React.CSSProperties; alpha: boolean; fit: "fill" | "cover"; alt: string }) {
  const address = useBlobAddress(props.picture.blob);
  return (
    <img
      src={address}
      alt={props.alt}
      style={{ ...props.box, objectFit: props.fit }}
      className={"block " + (props.alpha ? "checkered" : "")}
    />
  );
}

function Side(props: { title: string; picture: Picture | undefined; dim?: boolean; children: ReactNode }) {
  const p = props.picture;
  return (
    <section aria-label={props.title} className="flex min-w-0 flex-col gap-2">
      <h2 className="font-semibold">
        {props.title} {props.dim && <span className="font-normal text-soft">…</span>}
      </h2>
      {props.children}
      {p && (
        <dl className="figures grid max-w-xs grid-cols-[auto_1fr] gap-x-4 text-sm">
          <Fact name="pixels">{pixelsText(p.width, p.height)}</Fact>
          <Fact name="bytes">{bytesText(p.bytes)}</Fact>
          <Fact name="type">{p.type}</Fact>
          <Fact name="time">{msText(p.ms)}</Fact>
          {p.cache && <Fact name="cache">{p.cache}</Fact>}
        </dl>
      )}
    </section>
  );
}

function Fact(props: { name: string; children: ReactNode }) {
  return (
    <>
      <dt className="text-soft">{props.name}</dt>
      <dd className="text-right">{props.children}</dd>
    </>
  );
}
