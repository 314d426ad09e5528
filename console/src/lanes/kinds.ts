import type { Document, Lane } from "../api/client";

// A field of a kind's form.
export interface LaneField {
  name: keyof Lane;
  label: string;
  hint?: string;
  list?: boolean;
  unless?: keyof Lane; // beside this one it makes no sense
}

// What the settings of one kind of lane are.
export interface LaneKind {
  name: Lane["kind"];
  fresh_s: number;
  where: (keyof Lane)[][]; // the fields that say where the sources are: the first group that has a value
  urlWithout?: keyof Lane; // without this field a source's path is its whole URL
  secrets?: { form: "headers" | "credentials"; unless?: keyof Lane };
  receives?: boolean; // sources are put in through Echo Lane
  fields: LaneField[];
}

// A number of a site's rules.
export interface NumberField<T extends "limits" | "month"> {
  name: keyof Document[T];
  label: string;
  hint?: string;
}

// The kinds, in their order, and the numbers; made from service/lane.
export const kinds: LaneKind[] = [
  {
    name: "folder",
    fresh_s: 1,
    where: [["folder"]],
    fields: [
      { name: "folder", label: "Folder", hint: "On every machine that the service runs on" },
    ],
  },
  {
    name: "web",
    fresh_s: 300,
    where: [["base"], ["allow"]],
    urlWithout: "base",
    secrets: { form: "headers" },
    fields: [
      { name: "allow", label: "Allow", hint: "URL patterns, such as https://photos.kestrel.test/*", list: true },
      { name: "deny", label: "Deny", hint: "Wins over allow", list: true },
      { name: "base", label: "Base", hint: "What paths are appended to; without one a path is a whole URL" },
      { name: "private", label: "Private addresses", hint: "Reached though they aren't public", list: true },
      { name: "unshared", label: "Marked no-store or private" },
    ],
  },
  {
    name: "bucket",
    fresh_s: 300,
    where: [["endpoint", "bucket", "prefix"]],
    secrets: { form: "credentials" },
    fields: [
      { name: "bucket", label: "Bucket" },
      { name: "endpoint", label: "Endpoint" },
      { name: "region", label: "Region" },
      { name: "prefix", label: "Prefix" },
      { name: "private", label: "Private addresses", hint: "Reached though they aren't public", list: true },
    ],
  },
  {
    name: "upload",
    fresh_s: 1,
    where: [["folder"], ["endpoint", "bucket", "prefix"]],
    secrets: { form: "credentials", unless: "folder" },
    receives: true,
    fields: [
      { name: "folder", label: "Folder", hint: "On every machine that the service runs on" },
      { name: "bucket", label: "Bucket", unless: "folder" },
      { name: "endpoint", label: "Endpoint", unless: "folder" },
      { name: "region", label: "Region", unless: "folder" },
      { name: "prefix", label: "Prefix", unless: "folder" },
      { name: "private", label: "Private addresses", hint: "Reached though they aren't public", list: true, unless: "folder" },
    ],
  },
  {
    name: "blank",
    fresh_s: 86400,
    where: [],
    fields: [
    ],
  },
];

export const limits: NumberField<"limits">[] = [
  { name: "source_bytes", label: "Source, bytes" },
  { name: "source_pixels", label: "Source, pixels" },
  { name: "source_frames", label: "Source, frames" },
  { name: "width", label: "Variant, width" },
  { name: "height", label: "Variant, height" },
  { name: "pixels", label: "Variant, pixels" },
  { name: "quality_floor", label: "Quality, floor" },
  { name: "quality_ceiling", label: "Quality, ceiling" },
  { name: "variants_per_source", label: "Variants of one source", hint: "0: no bound" },
  { name: "formats_tried", label: "Formats tried for a variant", hint: "To send the smallest" },
  { name: "render_ms", label: "Rendering, ms" },
  { name: "animation_frames", label: "Frames of what the sheet moves" },
  { name: "animation_fps", label: "Frames a second", hint: "Of what the sheet moves" },
  { name: "requests_per_second", label: "Requests a second of one client", hint: "On one node; 0: no bound" },
];

export const months: NumberField<"month">[] = [
  { name: "renders", label: "Renders a month", hint: "0: no bound" },
  { name: "bytes_served", label: "Bytes served a month", hint: "0: no bound" },
  { name: "bytes_stored", label: "Bytes stored a month", hint: "0: no bound" },
];
// The end of what is made.
