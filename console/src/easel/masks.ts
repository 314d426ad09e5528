// Masks as they are drawn on a picture: a fade between two points, or a spot in a box. Points and boxes are in parts of the picture's sides.
import type { Box } from "../parts/boxes";

export type Point = [number, number];

const figure = (v: number) => +v.toFixed(2);

// The line of a linear-gradient() through the middle, as long as CSS Images Level 3, section 3.1.1 has it: its direction and length in pixels.
const lineOf = (degrees: number, width: number, height: number) => {
  const a = (degrees * Math.PI) / 180;
  return { x: Math.sin(a), y: -Math.cos(a), length: Math.abs(width * Math.sin(a)) + Math.abs(height * Math.cos(a)) };
};

// fade is the mask that is whole at one point and gone at the other.
export function fade([from, to]: [Point, Point], width: number, height: number): string {
  const dx = (to[0] - from[0]) * width;
  const dy = (to[1] - from[1]) * height;
  const degrees = figure(((Math.atan2(dx, -dy) * 180) / Math.PI + 360) % 360);
  const line = lineOf(degrees, width, height);
  const at = ([x, y]: Point) => figure(100 * (((x - 0.5) * width * line.x + (y - 0.5) * height * line.y) / line.length + 0.5));
  return `linear-gradient(${degrees}deg, black ${at(from)}%, transparent ${at(to)}%)`;
}

// fadeOf are the points of such a mask, on the line through the middle; undefined for another.
export function fadeOf(mask: string | undefined, width: number, height: number): [Point, Point] | undefined {
  const [, degrees, from, to] = /^linear-gradient\(\s*(-?[\d.]+)deg,\s*black (-?[\d.]+)%,\s*transparent (-?[\d.]+)%\s*\)$/.exec(mask ?? "") ?? [];
  if (!to) return undefined;
  const line = lineOf(+degrees!, width, height);
  const at = (percent: string): Point => {
    const along = (+percent / 100 - 0.5) * line.length;
    return [0.5 + (along * line.x) / width, 0.5 + (along * line.y) / height];
  };
  return [at(from!), at(to)];
}

// spot is the mask that is whole in the middle of a box and gone at the ellipse in it.
export const spot = (b: Box): string => `radial-gradient(ellipse ${figure(50 * b.width)}% ${figure(50 * b.height)}% at ${figure(100 * (b.x + b.width / 2))}% ${figure(100 * (b.y + b.height / 2))}%, black 60%, transparent)`;

// spotOf is the box of such a mask; undefined for another.
export function spotOf(mask: string | undefined): Box | undefined {
  const [, rx, ry, x, y] = /^radial-gradient\(\s*ellipse ([\d.]+)% ([\d.]+)% at (-?[\d.]+)% (-?[\d.]+)%,/.exec(mask ?? "") ?? [];
  if (!y) return undefined;
  const width = +rx! / 50;
  const height = +ry! / 50;
  return { x: +x! / 100 - width / 2, y: +y / 100 - height / 2, width, height };
}
