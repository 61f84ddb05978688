import type { Item } from "../api/client";

/** The sentence that decided about an item, for a line in a list. */
export function deciding(item: Item): string {
  const wanted = item.verdict === "refused" ? ["refuses"] : item.verdict === "cleared" ? ["supports"] : ["refuses", "withholds"];
  const fitting = item.grounds.filter((g) => wanted.includes(g.effect));
  // What clears says more than a digest that matches.
  const best = (item.verdict === "cleared" && fitting.find((g) => g.code !== "digest-match")) || fitting[0];
  return best?.sentence ?? (item.settled && item.role !== "artifact" ? `It is a ${item.role}: ${item.why}.` : "");
}
