import type { Item } from "../api/client";

/** The sentence that decided about an item, for a line in a list. */
export function deciding(item: Item): string {
  const wanted = item.verdict === "refused" ? ["refuses"] : item.verdict === "cleared" ? ["supports"] : ["refuses", "withholds"];
  const fitting = item.grounds.filter((g) => wanted.includes(g.effect));
  const best = fitting.find((g) => g.code === "signature-valid") ?? fitting[0];
  return best?.sentence ?? (item.settled && item.role !== "artifact" ? `It is a ${item.role}: ${item.why}.` : "");
}
