// @vitest-environment jsdom
import { render, screen } from "@testing-library/react";
import { expect, test } from "vitest";

import { failureOf } from "../api/client";
import { ProblemNote } from "./problem-note";

test("a problem is told in the service's words: what happened, then the facts or what to do", () => {
  render(<ProblemNote error={failureOf({ detail: "It is so.", advice: "Do that.", code: "internal", status: 409 })} />);
  expect(screen.getByRole("alert").textContent).toBe("It is so.Do that.");
});

test("facts stand in place of advice, one a line", () => {
  render(<ProblemNote error={failureOf({ detail: "Not yet.", facts: ["One is missing.", "So is another."], status: 409 })} />);
  expect(screen.getAllByRole("listitem").map((l) => l.textContent)).toEqual(["One is missing.", "So is another."]);
});

test("an error of the page itself shows nothing of what it is made of", () => {
  render(<ProblemNote error={new TypeError("undefined is not a function")} />);
  expect(screen.getByRole("alert").textContent).not.toContain("undefined");
});
