// @vitest-environment jsdom
import { screen, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import { serve, show } from "../../testing/service";
import { Waivers } from "./waivers";

const curator = { name: "tobiah", full_name: "Tobiah Renn", role: "curator" };
const waiver = {
  id: 3,
  ground: "weak-digest-only",
  publisher: "lanternfell",
  pattern: "lamp-*",
  until: "2027-04-01T00:00:00Z",
  state: "in force",
  reason: "they publish MD5 only",
  by: "tobiah",
  created: "2026-11-04T10:00:00Z",
  record: 41,
};

test("a waiver is told with its last day, which is the one before it ends", async () => {
  serve({ "GET /me": curator, "GET /waivers": { items: [waiver] } });
  show(<Waivers />);
  const line = await screen.findByRole("listitem");
  expect(line.textContent).toContain("lanternfell, lamp-*, until 2027-03-31");
  expect(within(line).getByRole("link", { name: "record 41" }).getAttribute("href")).toBe("/records/41");
});

test("an exception counts to the end of the day that is chosen, and empty fields are not sent", async () => {
  const asked = serve({
    "GET /me": curator,
    "GET /waivers": { items: [] },
    "GET /publishers": { items: [{ slug: "lanternfell", name: "Lanternfell" }] },
    "POST /waivers": waiver,
  });
  const user = userEvent.setup();
  show(<Waivers />);
  await user.click(await screen.findByRole("button", { name: "Grant a waiver" }));
  await user.selectOptions(screen.getByLabelText("Ground that is lifted"), "weak-digest-only");
  await user.type(screen.getByLabelText("Last day"), "2027-03-31");
  await screen.findByRole("option", { name: "Lanternfell" });
  await user.selectOptions(screen.getByLabelText("For the publisher"), "lanternfell");
  await user.type(screen.getByLabelText("Why the exception is granted"), "they publish MD5 only");
  await user.click(screen.getByRole("button", { name: "Grant" }));
  await screen.findByRole("button", { name: "Grant a waiver" }); // the form is closed
  expect(asked.find((a) => a.what === "POST /waivers")?.body).toEqual({
    ground: "weak-digest-only",
    publisher: "lanternfell",
    until: "2027-04-01T00:00:00.000Z",
    reason: "they publish MD5 only",
  });
});

test("who is no curator grants and ends nothing", async () => {
  serve({ "GET /me": { ...curator, role: "operator" }, "GET /waivers": { items: [waiver] } });
  show(<Waivers />);
  await screen.findByRole("listitem");
  expect(screen.queryByRole("button")).toBeNull();
});

test("a waiver that has ended says when, by whom and why, and cannot be ended again", async () => {
  serve({
    "GET /me": curator,
    "GET /waivers": {
      items: [{ ...waiver, state: "ended", ended: "2026-12-01T09:00:00Z", ended_by: "ines", end_reason: "they sign now" }],
    },
  });
  show(<Waivers />);
  expect((await screen.findByRole("listitem")).textContent).toContain("ended on 2026-12-01 by ines: they sign now");
  expect(screen.queryByRole("button", { name: "End it" })).toBeNull();
});
