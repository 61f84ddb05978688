/** Ways of writing numbers, times and hexadecimal for people. */

export function bytes(n: number): string {
  if (n < 1024) return `${n} B`;
  const units = ["KiB", "MiB", "GiB", "TiB"];
  let value = n / 1024;
  let unit = 0;
  while (value >= 1024 && unit < units.length - 1) {
    value /= 1024;
    unit++;
  }
  return `${value.toFixed(1)} ${units[unit] ?? ""}`;
}

export function moment(iso: string): string {
  const d = new Date(iso);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${d.getFullYear()}-${two(d.getMonth() + 1)}-${two(d.getDate())} ${two(d.getHours())}:${two(d.getMinutes())}`;
}

export const day = (iso: string) => iso.slice(0, 10);

export function groups(hex: string): string[] {
  return hex.toUpperCase().match(/.{1,4}/g) ?? [];
}

/** What stands between spaces. */
export const words = (text: string) => text.split(/\s+/).filter((word) => word !== "");

/** A number with its noun. */
export function count(n: number, one: string, many = one + "s"): string {
  return `${n.toLocaleString("en")} ${n === 1 ? one : many}`;
}

const sayings: Record<string, string> = {
  "vendor-site": "the publisher's site",
  "other-network": "another network",
  wkd: "the publisher's key directory",
  hkp: "a key server",
};

/** A word of the service's vocabularies as people say it. */
export const say = (word: string) => sayings[word] ?? word.replaceAll("-", " ");

/** Bytes as base64, for the API. */
export function base64(content: Uint8Array): string {
  let binary = "";
  for (const byte of content) binary += String.fromCharCode(byte);
  return btoa(binary);
}

/** Bytes from base64. */
export function unbase64(text: string): Uint8Array<ArrayBuffer> {
  return Uint8Array.from(atob(text), (c) => c.charCodeAt(0));
}

// What does not show as itself: controls, marks that turn the direction of text, spaces
// that look like the usual one, and what has no meaning. Line ends and tabs may stand.
const unseen = /[\p{Cc}\p{Cf}\p{Co}\p{Cn}\p{Cs}\p{Zl}\p{Zp}]|(?! )\p{Zs}/gu;

/** A text of which every character shows: what would not is written as \\u{202e}. */
export function harmless(text: string): string {
  return text.replace(unseen, (c) => (c === "\n" || c === "\t" ? c : `\\u{${(c.codePointAt(0) ?? 0).toString(16).padStart(4, "0")}}`));
}

/**
 * An answer of the service in which every text is harmless, but for those under the name
 * “path”: by these the service is asked again, and they are not shown.
 */
export function harmlessAll<T>(answer: T): T {
  return walk(answer) as T;
}

function walk(value: unknown): unknown {
  if (typeof value === "string") return harmless(value);
  if (Array.isArray(value)) return value.map(walk);
  if (typeof value !== "object" || value === null) return value;
  return Object.fromEntries(
    Object.entries(value).map(([name, inner]) => [harmless(name), name === "path" && typeof inner === "string" ? inner : walk(inner)]),
  );
}
