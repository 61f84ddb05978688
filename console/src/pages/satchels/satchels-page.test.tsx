// @vitest-environment jsdom
import { fireEvent, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, beforeEach, expect, test, vi } from "vitest";

import { Problem, serve, show } from "../../testing/service";
import { fileName, SatchelsPage } from "./satchels-page";

const operator = { name: "ines", full_name: "Ines Corvane", role: "operator" };
const publishers = {
  items: [
    { slug: "quoin", name: "Quoin" },
    { slug: "corran", name: "Corran" },
  ],
};
const packed = {
  id: "abcdefghijkl",
  publishers: ["quoin"],
  keys: ["A1"],
  references: 1,
  until: "2026-12-14T10:00:00Z",
  packed: "2026-11-30T10:00:00Z",
  by: "ines",
  file: btoa("satchel"),
};

/** What was written on site; jsdom cannot read files by itself. */
const outcomes = Object.assign(new File(["sealed"], "light.outcomes"), {
  arrayBuffer: () => Promise.resolve(new TextEncoder().encode("sealed").buffer),
});

/** Sends the form; jsdom does not see that its file is chosen. */
const takeBack = () => {
  const form = screen.getByRole("button", { name: "Take it back" }).closest("form");
  if (form) fireEvent.submit(form);
};

const saved: string[] = [];
beforeEach(() => {
  saved.length = 0;
  vi.stubGlobal("URL", Object.assign(URL, { createObjectURL: () => "blob:made", revokeObjectURL: () => undefined }));
  vi.spyOn(HTMLAnchorElement.prototype, "click").mockImplementation(function (this: HTMLAnchorElement) {
    saved.push(this.download);
  });
});
afterEach(() => {
  vi.restoreAllMocks();
});

test("a satchel is packed for the publishers that are chosen, and saved under its label", async () => {
  const asked = serve({
    "GET /me": operator,
    "GET /satchels": { items: [] },
    "GET /publishers": publishers,
    "POST /satchels": packed,
  });
  const user = userEvent.setup();
  show(<SatchelsPage />);
  const pack = await screen.findByRole<HTMLButtonElement>("button", { name: "Pack and save" });
  expect(pack.disabled).toBe(true);
  await user.click(await screen.findByLabelText("Corran"));
  await user.click(screen.getByLabelText("Quoin"));
  await user.click(screen.getByLabelText("Corran")); // not this one after all
  await user.type(screen.getByLabelText("Label"), "Skerrow Light, spring");
  await user.click(pack);
  expect((await screen.findByRole("status")).textContent).toContain("1 key by which it can clear something and 1 file that were");
  expect(asked.find((a) => a.what === "POST /satchels")?.body).toEqual({
    publishers: ["quoin"],
    days: 14,
    label: "Skerrow Light, spring",
  });
  expect(saved).toEqual(["skerrow-light-spring.satchel"]);
});

test("of outcomes that come back each that was not taken is told", async () => {
  const asked = serve({
    "GET /me": operator,
    "GET /satchels": { items: [] },
    "GET /publishers": publishers,
    "POST /satchel-returns": {
      ...packed,
      visits: [
        { number: 1, refused: "" },
        { number: 2, refused: "its list of files cannot be used." },
      ],
    },
  });
  const user = userEvent.setup();
  show(<SatchelsPage />);
  await user.upload(await screen.findByLabelText("The file that was written on site"), outcomes);
  await user.type(screen.getByLabelText("The key that was shown there"), "A1B2 C3D4 E5F6 0718");
  takeBack();
  expect((await screen.findByRole("alert")).textContent).toBe("Outcome 2 was not taken: its list of files cannot be used.");
  expect(asked.find((a) => a.what === "POST /satchel-returns")?.body).toEqual({ file: btoa("sealed"), key: "A1B2 C3D4 E5F6 0718" });
});

test("a file of which nothing was taken says so in the service's words", async () => {
  serve({
    "GET /me": operator,
    "GET /satchels": { items: [] },
    "GET /publishers": publishers,
    "POST /satchel-returns": new Problem(409, "Outcome 2 came back before, and was another.", "Nothing of it is taken."),
  });
  const user = userEvent.setup();
  show(<SatchelsPage />);
  await user.upload(await screen.findByLabelText("The file that was written on site"), outcomes);
  takeBack();
  expect((await screen.findByRole("alert")).textContent).toContain("Outcome 2 came back before, and was another.");
});

test("the name of a file has nothing of a label that no file has", () => {
  expect(fileName("../Skerrow  Light!")).toBe("skerrow-light");
  expect(fileName("…")).toBe("");
});
