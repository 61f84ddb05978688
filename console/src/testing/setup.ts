/**
 * Prepares the tests of components: addresses without a host are of this page, as in a browser,
 * and what is asked of the service comes to the answers of the test.
 */
import { cleanup } from "@testing-library/react";
import { afterEach } from "vitest";

import { answerTo } from "./service";

const NodeRequest = globalThis.Request;
globalThis.Request = class extends NodeRequest {
  constructor(input: RequestInfo | URL, init?: RequestInit) {
    super(typeof input === "string" ? new URL(input, "http://localhost") : input, init);
  }
};
globalThis.fetch = (input: RequestInfo | URL, init?: RequestInit) => answerTo(new globalThis.Request(input, init));

afterEach(() => {
  cleanup();
});
