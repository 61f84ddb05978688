import type { Reading } from "../../api/client";

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

/** Cuts a text into the lines that its reader counted: they end in LF, CR LF or CR. */
export const linesOf = (text: string) => text.replace(/^\uFEFF/, "").split(/\r\n|\n|\r/);

/**
 * Tells part by part what was made of a text. Lines of which nothing was made, and that
 * do not stand beside others, are left out: null stands for a gap.
 */
export function madeOf(text: string, reading: Reading, most = 2_000): (Line | null)[] {
  const lines = linesOf(text);
  const values = new Map<number, string[]>();
  const say = (no: number, what: string) => values.set(no, [...(values.get(no) ?? []), what]);
  for (const e of reading.entries) {
    say(e.line, e.digest);
    if (e.name) say(e.line, e.name.toLowerCase());
    // A value can go on in the lines below.
    for (let no = e.line + 1; !lines[e.line - 1]?.toLowerCase().includes(e.digest); no++) {
      const rest = lines[no - 1]?.replaceAll(/[^0-9a-f]/gi, "").toLowerCase() ?? "";
      if (rest.length < 8 || !e.digest.includes(rest)) break;
      say(no, rest);
    }
  }
  const problems = new Map(reading.problems.map((p) => [p.line, p.message]));
  const left = new Map<number, Reading["left_aside"]>();
  for (const a of reading.left_aside) left.set(a.line, [...(left.get(a.line) ?? []), a]);
  const of = (no: number) => values.has(no) || problems.has(no) || left.has(no);
  const out: (Line | null)[] = [];
  let last = 0;
  for (const [i, line] of lines.entries()) {
    const no = i + 1;
    let near = false;
    for (let n = no - around; n <= no + around; n++) near ||= of(n);
    if (!near) continue;
    if (out.length >= most) break;
    const skipped = lines[no - 2];
    if (no === last + 2 && skipped !== undefined) out.push({ no: no - 1, parts: cut(skipped, [], []) });
    else if (no > last + 1) out.push(null);
    last = no;
    const problem = problems.get(no);
    const parts =
      problem === undefined
        ? cut(line, values.get(no) ?? [], left.get(no) ?? [])
        : [{ text: line, made: "problem" as const, why: problem }];
    out.push({ no, parts });
  }
  if (last < lines.length) out.push(null);
  return out;
}

/** Cuts a line at the values that were read and the parts that were left aside. */
function cut(line: string, values: string[], left: Reading["left_aside"]): Part[] {
  const bytes = new TextEncoder().encode(line);
  const marks: { from: number; to: number; made: Made; why: string }[] = [];
  for (const a of left) marks.push({ from: a.column - 1, to: a.column - 1 + a.length, made: "left", why: a.why });
  const lower = line.toLowerCase();
  let found = false;
  for (const value of new Set(values)) {
    const at = lower.indexOf(value);
    if (at < 0) continue;
    found ||= /^[0-9a-f]{8,}$/.test(value);
    const from = new TextEncoder().encode(line.slice(0, at)).length;
    marks.push({ from, to: from + new TextEncoder().encode(line.slice(at, at + value.length)).length, made: "read", why: "read" });
  }
  // In groups or in base64 the value is all that the line holds beside its name.
  if (values.length > 0 && !found) return [{ text: line, made: "read", why: "read" }];
  marks.sort((a, b) => a.from - b.from);
  const text = (from: number, to: number) => new TextDecoder().decode(bytes.slice(from, to));
  const parts: Part[] = [];
  let at = 0;
  for (const m of marks) {
    if (m.from < at) continue;
    if (m.from > at) parts.push({ text: text(at, m.from), made: "", why: "" });
    parts.push({ text: text(m.from, m.to), made: m.made, why: m.why });
    at = m.to;
  }
  if (at < bytes.length || parts.length === 0) parts.push({ text: text(at, bytes.length), made: "", why: "" });
  return parts;
}
