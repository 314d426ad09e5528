// Boxes that are drawn, moved and sized on a picture.
export interface Box {
  x: number;
  y: number;
  width: number;
  height: number;
}

// The corner and sides that a box is sized by, and which of its lengths each changes.
export const handles = [
  { name: "right side", x: 1, y: 0.5, cursor: "ew-resize" },
  { name: "lower side", x: 0.5, y: 1, cursor: "ns-resize" },
  { name: "lower right corner", x: 1, y: 1, cursor: "nwse-resize" },
] as const;

export type How = "move" | (typeof handles)[number];

export const corner = handles[2];

// moved is a box after it was moved or sized by so much; it keeps a least length.
export const moved = (from: Box, how: How, dx: number, dy: number, least: number): Box =>
  how === "move"
    ? { ...from, x: from.x + dx, y: from.y + dy }
    : { ...from, width: Math.max(least, from.width + (how.x === 1 ? dx : 0)), height: Math.max(least, from.height + (how.y === 1 ? dy : 0)) };

// within keeps a box of parts inside the picture: moved, it stays as large; sized, it ends at the edge.
export const within = (b: Box, how: How): Box => {
  const clamp = (v: number, low: number, high: number) => Math.min(Math.max(v, low), Math.max(low, high));
  if (how === "move") return { ...b, x: clamp(b.x, 0, 1 - b.width), y: clamp(b.y, 0, 1 - b.height) };
  return { ...b, width: clamp(b.width, 0, 1 - b.x), height: clamp(b.height, 0, 1 - b.y) };
};

// between is the box that two opposite corners make.
export const between = (x0: number, y0: number, x1: number, y1: number): Box => ({ x: Math.min(x0, x1), y: Math.min(y0, y1), width: Math.abs(x1 - x0), height: Math.abs(y1 - y0) });

export const holds = (b: Box, x: number, y: number) => x >= b.x && y >= b.y && x <= b.x + b.width && y <= b.y + b.height;

// percents says where a box of parts is.
export const percents = (b: Box) => `${[b.x, b.y, b.width].map((v) => `${Math.round(100 * v)} %`).join(", ")} × ${Math.round(100 * b.height)} %`;

// stepOf is by how many parts of the picture an arrow key moves.
export const stepOf = (key: string): [number, number] | undefined => ({ ArrowLeft: [-0.01, 0], ArrowRight: [0.01, 0], ArrowUp: [0, -0.01], ArrowDown: [0, 0.01] })[key] as [number, number] | undefined;
