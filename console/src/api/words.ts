// The words that may stand in a field, by type and field; made from the API's description by go generate ./service/api.
export const words = {
  Cards: {
    values: ["signed", "listed", "open"],
  },
  Document: {
    effort: ["quick", "thorough", "predicted"],
    formats: ["avif", "jxl", "webp", "jpeg", "png", "gif"],
    grow: ["url", "classes"],
    paint: ["url", "classes"],
  },
  Ladder: {
    other: ["refuse", "round-up"],
  },
  Lane: {
    kind: ["folder", "web", "bucket", "upload", "blank"],
    metadata: ["strip", "keep"],
    original: ["no", "download"],
    svg: ["draw", "untouched", "refuse"],
    unshared: ["forget", "keep"],
    visibility: ["public", "signed"],
  },
  MadeToken: {
    may: ["read", "edit", "own"],
  },
  NewPerson: {
    may: ["read", "edit", "own"],
  },
  NewToken: {
    may: ["read", "edit", "own"],
  },
  Pages: {
    silent: ["allow", "refuse"],
  },
  Person: {
    may: ["read", "edit", "own"],
  },
  Picture: {
    kind: ["img", "picture", "background", "poster"],
  },
  SetWarming: {
    state: ["paused", "running", "stopped"],
  },
  Signing: {
    unsigned: ["anything", "ladder", "nothing"],
  },
  Stock: {
    by: ["site", "lane", "source", "format"],
  },
  TierTimes: {
    kind: ["memory", "disk", "store", "made", "joined", "original", "refused"],
  },
  Today: {
    span: ["hour", "day", "month"],
  },
  Token: {
    may: ["read", "edit", "own"],
  },
  TrafficPoint: {
    kind: ["memory", "disk", "store", "made", "joined", "original", "refused"],
  },
  Warming: {
    state: ["running", "paused", "done", "stopped"],
  },
  Weighing: {
    state: ["running", "done", "failed", "stopped"],
  },
  WeighingState: {
    state: ["running", "done", "failed", "stopped"],
  },
} as const;
