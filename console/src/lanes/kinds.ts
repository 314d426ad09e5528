import type { Lane } from "../api/client";

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

// The kinds, in their order; made from service/lane.
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
];
// The end of what is made.
