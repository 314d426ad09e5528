// What a line of the Easel says: a text, by an example, or one of a few words.
export interface Line {
  name: string;
  label: string;
  example?: string;
  initial?: string;
  keywords?: string[];
}

// The names that the Easel can declare, in the language's order, and its lines by group; made from core/declare.
export const language = [
  "image-orientation",
  "redact",
  "erase",
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
  "image-rendering",
  "background-color",
  "background-image",
  "background-position",
  "background-size",
  "background-repeat",
  "backdrop-filter",
  "mix-blend-mode",
  "border",
  "padding",
  "box-shadow",
  "clip-path",
  "mask-image",
  "mask-mode",
  "mask-position",
  "mask-size",
  "mask-repeat",
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

export const lines = {
  region: [
    { name: "image-orientation", label: "Orientation", initial: "from-image", keywords: ["from-image", "none"] },
    { name: "redact", label: "Redact", example: "faces" },
    { name: "erase", label: "Erase", example: "120,80,64,40" },
    { name: "xywh", label: "Part", example: "percent:10,10,50,50" },
  ],
  geometry: [
    { name: "image-rendering", label: "Rendering", initial: "auto", keywords: ["auto", "pixelated"] },
  ],
  paint: [
    { name: "background-color", label: "Background", example: "oklch(90% 0.05 185)" },
    { name: "background-image", label: "Background image", example: "url(lane/path.jpg)" },
    { name: "background-position", label: "Its place", example: "right 12px bottom 12px" },
    { name: "background-size", label: "Its size", example: "contain" },
    { name: "background-repeat", label: "Repeats", example: "repeat" },
    { name: "backdrop-filter", label: "Its filter", example: "blur(8px)" },
    { name: "mix-blend-mode", label: "Blend", initial: "normal", keywords: ["normal", "multiply", "screen", "overlay", "darken", "lighten", "color-dodge", "color-burn", "hard-light", "soft-light", "difference", "exclusion", "hue", "saturation", "color", "luminosity"] },
    { name: "border", label: "Border", example: "4px solid white" },
    { name: "padding", label: "Padding", example: "12px" },
    { name: "box-shadow", label: "Inner shadow", example: "inset 0 0 24px black" },
    { name: "clip-path", label: "Clip", example: "circle(50%)" },
    { name: "mask-image", label: "Mask", example: "subject" },
    { name: "mask-mode", label: "Mask mode", initial: "match-source", keywords: ["match-source", "alpha", "luminance"] },
    { name: "mask-position", label: "Mask's place", example: "center" },
    { name: "mask-size", label: "Mask's size", example: "contain" },
    { name: "mask-repeat", label: "Mask repeats", example: "no-repeat" },
    { name: "gradient-map", label: "Gradient map", example: "navy teal ivory 60%" },
    { name: "sharpen", label: "Sharpen", example: "0.6" },
    { name: "border-radius", label: "Radius", example: "24px" },
    { name: "filter", label: "Filter", example: "grayscale(1) contrast(1.2)" },
    { name: "opacity", label: "Opacity", example: "0.8" },
    { name: "matte", label: "Matte", example: "white" },
  ],
  layers: [
    { name: "after-content", label: "Content", example: "url(lane/mark.png) or 'text'" },
    { name: "after-width", label: "Width", example: "18%" },
    { name: "after-height", label: "Height", example: "auto" },
    { name: "after-inset", label: "Inset", example: "auto 4% 4% auto" },
    { name: "after-opacity", label: "Opacity", example: "0.7" },
    { name: "after-rotate", label: "Turn", example: "-8deg" },
    { name: "after-color", label: "Colour", example: "white" },
    { name: "after-font", label: "Font", example: "bold 28px sans-serif" },
    { name: "after-text-align", label: "Alignment", initial: "left", keywords: ["left", "center", "right"] },
    { name: "after-background-color", label: "Ground", example: "rgb(0 0 0 / 50%)" },
    { name: "after-padding", label: "Padding", example: "4px 8px" },
  ],
  encoding: [
    { name: "budget", label: "Budget", example: "60kB" },
    { name: "retain", label: "Retain", example: "rights camera" },
  ],
  delivery: [
    { name: "class", label: "Class", example: "tile stamped" },
  ],
} satisfies Record<string, Line[]>;

// The words that may stand where nothing else may.
export const keywords = {
  "image-orientation": ["from-image", "none"],
  "object-fit": ["fill", "cover", "contain", "none", "scale-down"],
  "grow": ["no", "yes"],
  "image-rendering": ["auto", "pixelated"],
  "mix-blend-mode": ["normal", "multiply", "screen", "overlay", "darken", "lighten", "color-dodge", "color-burn", "hard-light", "soft-light", "difference", "exclusion", "hue", "saturation", "color", "luminosity"],
  "mask-mode": ["match-source", "alpha", "luminance"],
  "after-mix-blend-mode": ["normal", "multiply", "screen", "overlay", "darken", "lighten", "color-dodge", "color-burn", "hard-light", "soft-light", "difference", "exclusion", "hue", "saturation", "color", "luminosity"],
  "after-text-align": ["left", "center", "right"],
  "format": ["avif", "jxl", "webp", "jpeg", "png", "gif"],
};

// An Accept field that names every format that has to be named.
export const accept = "image/avif,image/jxl,image/webp,image/*,*/*;q=0.8";
// The end of what is made: go generate ./core/declare.
