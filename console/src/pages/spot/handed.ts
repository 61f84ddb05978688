/** Files that were dropped on another page, on their way to this one. */

import type { Given } from "../../spot/protocol";

let waiting: Given[] = [];

export function hand(given: Given[]) {
  waiting = given;
}

/** What was handed over, if anything: it stays until it is said to be taken, for a page may be drawn and given up. */
export const handed = (): Given[] | undefined => (waiting.length > 0 ? waiting : undefined);

/** Says that the page stands that has what was handed over. */
export function handedTaken() {
  waiting = [];
}
