// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Planned } from "../../api/client";
import { serve, show } from "../../testing/service";
import { type Against, CopiesForm, nothing } from "./copies-form";

const manifest = (path: string, signatures: unknown[] = []) => ({ path, shown: path, signatures }) as unknown as Planned;

test("a list that nobody signed comes first, and a pasted copy is held against it", async () => {
  serve({ "GET /origins": { items: [] } });
  const held: Against[] = [];
  const user = userEvent.setup();
  show(
    <CopiesForm
      manifests={[manifest("SHA256SUMS", [{}]), manifest("digests.txt")]}
      against={nothing}
      hold={(against) => {
        held.push(against);
      }}
    />,
  );
  expect(screen.getByLabelText<HTMLSelectElement>("Manifest").value).toBe("digests.txt");
  const add = screen.getByRole<HTMLButtonElement>("button", { name: /Hold against|Add/ });
  await user.type(screen.getByLabelText("Where exactly"), "letter of 12 March");
  await user.type(screen.getByLabelText("Its text"), "abc  lamp.img");
  await user.click(add);
  expect(held).toHaveLength(1);
  expect(held[0]?.copies[0]).toMatchObject({ of: "digests.txt", place: "letter of 12 March", text: "abc  lamp.img" });
});

test("without a list there is nothing to hold against", () => {
  serve({});
  const { container } = show(<CopiesForm manifests={[]} against={nothing} hold={() => undefined} />);
  expect(container.textContent).toBe("");
});
