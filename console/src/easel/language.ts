// The names of the language that the Easel can declare, in the language's order; a test holds them to the service's own.
export const language = [
  "xywh",
  "scale",
  "rotate",
  "width",
  "height",
  "aspect-ratio",
  "resolution",
  "object-fit",
  "object-position",
  "grow",
  "background-color",
  "background-image",
  "gradient-map",
  "sharpen",
  "after-content",
  "after-width",
  "after-height",
  "after-inset",
  "after-opacity",
  "after-mix-blend-mode",
  "after-rotate",
  "after-color",
  "after-font",
  "after-text-align",
  "after-background-color",
  "after-padding",
  "border-radius",
  "filter",
  "opacity",
  "matte",
  "format",
  "quality",
  "budget",
  "animation",
  "retain",
  "class",
];

// What a line of text may say, by an example.
export interface Line {
  name: string;
  label: string;
  example: string;
}

export const paint: Line[] = [
  { name: "filter", label: "Filter", example: "grayscale(1) contrast(1.2)" },
  { name: "gradient-map", label: "Gradient map", example: "navy teal ivory 60%" },
  { name: "sharpen", label: "Sharpen", example: "0.6" },
  { name: "border-radius", label: "Radius", example: "24px" },
  { name: "background-color", label: "Background", example: "oklch(90% 0.05 185)" },
  { name: "background-image", label: "Background image", example: "url(lane/path.jpg)" },
  { name: "opacity", label: "Opacity", example: "0.8" },
  { name: "matte", label: "Matte", example: "white" },
];

export const layer: Line[] = [
  { name: "after-content", label: "Content", example: "url(lane/mark.png) or 'text'" },
  { name: "after-width", label: "Width", example: "18%" },
  { name: "after-height", label: "Height", example: "auto" },
  { name: "after-inset", label: "Inset", example: "auto 4% 4% auto" },
  { name: "after-opacity", label: "Opacity", example: "0.7" },
  { name: "after-rotate", label: "Turn", example: "-8deg" },
  { name: "after-color", label: "Colour", example: "white" },
  { name: "after-font", label: "Font", example: "bold 28px sans-serif" },
  { name: "after-text-align", label: "Alignment", example: "center" },
  { name: "after-background-color", label: "Ground", example: "rgb(0 0 0 / 50%)" },
  { name: "after-padding", label: "Padding", example: "4px 8px" },
];

export const encoding: Line[] = [
  { name: "budget", label: "Budget", example: "60kB" },
  { name: "retain", label: "Retain", example: "rights camera" },
  { name: "class", label: "Class", example: "tile stamped" },
];

export const blendModes = [
  "normal", "multiply", "screen", "overlay", "darken", "lighten", "color-dodge", "color-burn",
  "hard-light", "soft-light", "difference", "exclusion", "hue", "saturation", "color", "luminosity",
];

export const positions = ["center", "subject", "detail", "top", "bottom", "left", "right", "left top", "right top", "left bottom", "right bottom"];
