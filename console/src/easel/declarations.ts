// What the Easel can declare, read from and written to the address bar just as it stands in an image's URL.
export interface Declarations {
  width?: number;
  height?: number;
  shape?: string; // aspect-ratio
  fit?: string;
  format?: string;
  quality?: string; // 1–100 or lossless
}

const names = ["width", "height", "aspect-ratio", "object-fit", "format", "quality"] as const;

export function readDeclarations(q: URLSearchParams): Declarations {
  const number = (name: string) => {
    const n = parseFloat(q.get(name) ?? "");
    return Number.isFinite(n) ? n : undefined;
  };
  return {
    width: number("width"),
    height: number("height"),
    shape: q.get("aspect-ratio") ?? undefined,
    fit: q.get("object-fit") ?? undefined,
    format: q.get("format") ?? undefined,
    quality: q.get("quality") ?? undefined,
  };
}

export function writeDeclarations(d: Declarations): URLSearchParams {
  const values = [d.width?.toString(), d.height?.toString(), d.shape, d.fit, d.format, d.quality];
  const q = new URLSearchParams();
  names.forEach((name, i) => values[i] && q.set(name, values[i]));
  return q;
}

// imageAddress is the image's URL below the service, as the address form has it.
export function imageAddress(site: string, lane: string, path: string, d: Declarations): string {
  const encoded = [site, lane, ...path.split("/")].map(encodeURIComponent).join("/");
  const query = writeDeclarations(d).toString().replaceAll("%2F", "/");
  return "/" + encoded + (query ? "?" + query : "");
}
