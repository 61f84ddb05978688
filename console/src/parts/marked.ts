/** A place in a text that something was made of, in bytes of the text in UTF-8, from 0. */
export interface Mark {
  start: number;
  end: number;
  made: Exclude<Made, "">;
  why: string;
}

/** What was made of a part of a text. */
export type Made = "" | "read" | "problem" | "left";

/** A part of a line, with what was made of it and why. */
export interface Part {
  text: string;
  made: Made;
  why: string;
}

/** A line of a text, numbered from 1. */
export interface Line {
  no: number;
  parts: Part[];
}

/** How many rows are kept around those of which something was made. */
const around = 1;

const LF = 10;
const CR = 13;

/** Where the lines of a text begin and end, without their ends. */
function linesOf(bytes: Uint8Array): [number, number][] {
  const out: [number, number][] = [];
  let from = 0;
  for (let i = 0; i < bytes.length; i++) {
    if (bytes[i] !== LF && bytes[i] !== CR) continue;
    out.push([from, i]);
    if (bytes[i] === CR && bytes[i + 1] === LF) i++;
    from = i + 1;
  }
  out.push([from, bytes.length]);
  return out;
}

/**
 * Cuts a text into its lines and these at the marks. Lines without a mark that do not stand
 * beside one with are left out: null stands for a gap.
 */
export function marked(text: string, marks: Mark[], most = 2_000): (Line | null)[] {
  const bytes = new TextEncoder().encode(text);
  const lines = linesOf(bytes);
  const sorted = marks.filter((m) => m.end > m.start).sort((a, b) => a.start - b.start || b.end - a.end);
  // The marks of each line: of those that reach over several, each line has its part.
  const of = lines.map((): Mark[] => []);
  let line = 0;
  for (const m of sorted) {
    while (line + 1 < lines.length && (lines[line + 1]?.[0] ?? 0) <= m.start) line++;
    for (let n = line; n < lines.length && (lines[n]?.[0] ?? 0) < m.end; n++) of[n]?.push(m);
  }
  const near = (n: number) => of.slice(Math.max(0, n - around), n + around + 1).some((list) => list.length > 0);
  const out: (Line | null)[] = [];
  let last = -1;
  for (const [n, [from, to]] of lines.entries()) {
    if (!near(n)) continue;
    if (out.length >= most) break;
    const skipped = lines[n - 1];
    if (n === last + 2 && skipped) out.push({ no: n, parts: cut(bytes, skipped[0], skipped[1], []) });
    else if (n > last + 1) out.push(null);
    last = n;
    out.push({ no: n + 1, parts: cut(bytes, from, to, of[n] ?? []) });
  }
  if (last < lines.length - 1) out.push(null);
  return out;
}

/** The reasons for what was not read, each once, with the lines that it is about. */
export function reasons(text: string, marks: Mark[]): { why: string; lines: number[] }[] {
  const lines = linesOf(new TextEncoder().encode(text));
  const out = new Map<string, number[]>();
  for (const m of marks) {
    if (m.made === "read" || m.why === "") continue;
    const no = lines.findLastIndex(([from]) => from <= m.start) + 1;
    const of = out.get(m.why) ?? [];
    if (!of.includes(no)) of.push(no);
    out.set(m.why, of);
  }
  return [...out].map(([why, of]) => ({ why, lines: of }));
}

/** Cuts a line at its marks. Where two marks overlap the first counts. */
function cut(bytes: Uint8Array, from: number, to: number, marks: Mark[]): Part[] {
  const text = (a: number, b: number) => new TextDecoder().decode(bytes.subarray(a, b));
  const parts: Part[] = [];
  let at = from;
  for (const m of marks) {
    const start = Math.max(m.start, from);
    const end = Math.min(m.end, to);
    if (start < at || end <= start) continue;
    if (start > at) parts.push({ text: text(at, start), made: "", why: "" });
    parts.push({ text: text(start, end), made: m.made, why: m.why });
    at = end;
  }
  if (at < to || parts.length === 0) parts.push({ text: text(at, to), made: "", why: "" });
  return parts;
}
