import { useQueries } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { patiently, pause } from "../api/client";
import { Choice } from "../parts/Choice";
import { Trouble } from "../parts/Trouble";
import { bytesText } from "../parts/figures";
import { imageAddress, type Declarations } from "./declarations";
import { useBlobAddress, usePicture } from "./pictures";

const qualities = [95, 90, 84, 78, 72, 66, 60, 50, 40, 30, 20, 10];
const all = ["avif", "jxl", "webp", "jpeg"] as const;
type Format = (typeof all)[number];

interface Step {
  format: Format;
  quality: number;
  bytes: number;
  likeness: number;
}

// What one variant weighs and how alike it looks, as its explanation says.
async function weigh(address: string, format: Format, quality: number, signal: AbortSignal): Promise<Step> {
  type Explained = { bytes?: number; refusal?: { reason: string; detail: string; retry_in_s?: number }; variant?: { encoding?: { likeness?: number; way?: string } } };
  const explain = async () => (await (await patiently(address + (address.includes("?") ? "&" : "?") + "as=explain", { signal })).json()) as Explained;
  let x = await explain();
  for (let tries = 0; x.refusal?.reason === "busy" && tries < 20; tries++) {
    await pause(x.refusal.retry_in_s ?? 1, signal);
    x = await explain();
  }
  if (x.refusal) throw new Error(x.refusal.detail);
  const how = x.variant?.encoding;
  return { format, quality, bytes: x.bytes ?? 0, likeness: how?.way === "lossless" || how?.way === "source" ? 100 : (how?.likeness ?? 0) };
}

// Sweep lets a person lower the quality until it shows: one place of the picture, enlarged, with the original one key away.
export function Sweep(props: { site: string; lane: string; path: string; declared: Declarations; delivers: string[]; alpha: boolean }) {
  const { site, lane, path, declared } = props;
  const formats = all.filter((f) => props.delivers.includes(f));
  const [chosen, setFormat] = useState<Format>("avif");
  const format = formats.includes(chosen) ? chosen : (formats[0] ?? "jpeg");
  const [quality, setQuality] = useState(72);
  const [zoom, setZoom] = useState("2");
  const [bare, setBare] = useState(false);
  const at = (f: Format, q: number) => imageAddress(site, lane, path, { ...declared, format: f, quality: q.toString() });
  const steps = useQueries({
    queries: formats.flatMap((f) =>
      qualities.map((q) => ({ queryKey: ["weighed", at(f, q)], queryFn: ({ signal }: { signal: AbortSignal }) => weigh(at(f, q), f, q, signal), staleTime: 300_000, retry: false })),
    ),
  });
  const known = steps.flatMap((s) => (s.data ? [s.data] : []));
  const failed = steps.find((s) => s.error)?.error;
  const shown = usePicture(at(format, quality));
  const original = usePicture(imageAddress(site, lane, path, { ...declared, format: "png", quality: "lossless" }));
  const here = known.find((s) => s.format === format && s.quality === quality);

  useEffect(() => {
    const key = (down: boolean) => (e: KeyboardEvent) => {
      if (e.key.toLowerCase() === "o" && !(e.target instanceof HTMLInputElement && e.target.type !== "range")) setBare(down);
    };
    const press = key(true);
    const release = key(false);
    window.addEventListener("keydown", press);
    window.addEventListener("keyup", release);
    return () => {
      window.removeEventListener("keydown", press);
      window.removeEventListener("keyup", release);
    };
  }, []);

  return (
    <section aria-label="Sweep" className="flex min-h-0 flex-1 flex-col gap-3 overflow-y-auto p-4">
      {failed && <Trouble error={failed} />}
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <Choice label="Format" value={format} options={formats.map((f) => ({ value: f, text: f }))} onChange={setFormat} />
        <label className="flex min-w-56 flex-1 items-center gap-2">
          Quality
          <input
            type="range"
            aria-label="Quality"
            min={0}
            max={qualities.length - 1}
            value={qualities.length - 1 - qualities.indexOf(quality)}
            onChange={(e) => setQuality(qualities[qualities.length - 1 - Number(e.target.value)] ?? 72)}
            className="flex-1 accent-(--color-accent)"
          />
          <span className="figures w-6 text-right">{quality}</span>
        </label>
        <Choice label="Zoom" value={zoom} options={["1", "2", "4", "8"].map((v) => ({ value: v, text: v + ":1" }))} onChange={setZoom} />
        <button type="button" onPointerDown={() => setBare(true)} onPointerUp={() => setBare(false)} onPointerLeave={() => setBare(false)} className="border border-edge px-2 py-1">
          Hold for the original (O)
        </button>
      </div>
      <p className="figures text-sm" aria-live="polite" data-testid="step">
        {bare ? "original" : here ? `${format} at ${quality}: ${bytesText(here.bytes)}, likeness ${here.likeness.toFixed(1)}` : "…"}
      </p>
      <Detail picture={bare ? original.data?.blob : shown.data?.blob} width={shown.data?.width} zoom={Number(zoom)} alpha={props.alpha} />
      <Plot steps={known} format={format} quality={quality} waiting={steps.filter((s) => s.isPending).length} />
    </section>
  );
}

// The picture at a whole number of screen pixels to one of its own; it scrolls, and stays where it is when it changes.
function Detail(props: { picture: Blob | undefined; width: number | undefined; zoom: number; alpha: boolean }) {
  const address = useBlobAddress(props.picture);
  return (
    <div tabIndex={0} role="group" aria-label="Enlarged" className="max-h-[50dvh] min-h-48 overflow-auto border border-line">
      {address && props.width && (
        <img src={address} alt="The picture, enlarged" style={{ width: (props.width * props.zoom) / devicePixelRatio, maxWidth: "none", imageRendering: "pixelated" }} className={"block " + (props.alpha ? "checkered" : "")} />
      )}
    </div>
  );
}

const ink: Record<Format, string> = { avif: "var(--color-accent)", jxl: "#a0408c", webp: "#4767c9", jpeg: "#a86405" };

function Plot(props: { steps: Step[]; format: Format; quality: number; waiting: number }) {
  const { steps } = props;
  if (steps.length < 2) return <p className="text-soft">Encoding…</p>;
  const bytes = steps.map((s) => s.bytes);
  const low = Math.min(...bytes);
  const high = Math.max(...bytes);
  const x = (b: number) => 44 + (Math.log(b / low) / Math.max(1e-9, Math.log(high / low))) * 540;
  const y = (l: number) => 12 + (100 - l) * 1.9;
  return (
    <figure>
      <svg viewBox="0 0 600 236" role="img" aria-label="Likeness against bytes" className="w-full max-w-3xl">
        {[0, 20, 40, 60, 80, 100].map((l) => (
          <g key={l}>
            <line x1={44} x2={584} y1={y(l)} y2={y(l)} stroke="var(--color-line)" />
            <text x={36} y={y(l) + 4} textAnchor="end" className="figures" fontSize={11} fill="var(--color-soft)">
              {l}
            </text>
          </g>
        ))}
        {[low, Math.sqrt(low * high), high].map((b, i) => (
          <text key={i} x={x(b)} y={228} textAnchor={["start", "middle", "end"][i] as "start"} className="figures" fontSize={11} fill="var(--color-soft)">
            {bytesText(Math.round(b))}
          </text>
        ))}
        {all.map((f) => {
          const line = steps.filter((s) => s.format === f).sort((a, b) => a.bytes - b.bytes);
          return (
            <g key={f}>
              <polyline points={line.map((s) => `${x(s.bytes)},${y(s.likeness)}`).join(" ")} fill="none" stroke={ink[f]} strokeWidth={f === props.format ? 2.5 : 1.2} />
              {line.map((s) => (
                <circle key={s.quality} cx={x(s.bytes)} cy={y(s.likeness)} r={s.quality === props.quality && f === props.format ? 6 : 2.5} fill={ink[f]}>
                  <title>{`${f} at ${s.quality}: ${bytesText(s.bytes)}, likeness ${s.likeness}`}</title>
                </circle>
              ))}
            </g>
          );
        })}
      </svg>
      <figcaption className="flex gap-4 text-sm">
        {all.filter((f) => steps.some((s) => s.format === f)).map((f) => (
          <span key={f}>
            <span aria-hidden style={{ color: ink[f] }}>
              ■
            </span>{" "}
            {f}
          </span>
        ))}
        <span className="text-soft">likeness against bytes{props.waiting > 0 ? `, ${props.waiting} to come` : ""}</span>
      </figcaption>
    </figure>
  );
}
