/** Files that were dropped on another page, on their way to this one. */

import type { Given } from "../../spot/protocol";

let handed: Given[] = [];

export function hand(given: Given[]) {
  handed = given;
}

/** Takes what was handed over; the second time there is nothing. */
export function takeHanded(): Given[] {
  const given = handed;
  handed = [];
  return given;
}
