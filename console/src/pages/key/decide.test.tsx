// @vitest-environment jsdom
import { screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Key } from "../../api/client";
import { Problem, serve, show } from "../../testing/service";
import { Decide } from "./decide";

const fingerprint = "A".repeat(40);

function key(over: Partial<Key>): Key {
  return { fingerprint, state: "candidate", publisher: "quoin", obstacles: [], two_curators: false, ...over } as Key;
}

const curator = { name: "ines", full_name: "Ines Corvane", role: "curator" };
const publishers = { items: [{ slug: "quoin", name: "Quoin", contact: "", scope: [], created: "", by: "", version: "1" }] };

test("what stands in the way is told, and nobody can admit the key then", async () => {
  serve({ "GET /me": curator });
  show(<Decide k={key({ obstacles: [{ code: "sightings", sentence: "One sighting is missing." }] })} />);
  expect(await screen.findByText("One sighting is missing.")).toBeTruthy();
  await waitFor(() => {
    expect(screen.queryByRole("button", { name: "Admit" })).toBeNull();
  });
});

test("who is no curator decides nothing", async () => {
  serve({ "GET /me": { ...curator, role: "operator" } });
  show(<Decide k={key({})} />);
  expect(await screen.findByText(/A curator decides/)).toBeTruthy();
  expect(screen.queryByRole("button")).toBeNull();
});

test("an admission sends what was typed, and a refusal is told in the service's words", async () => {
  const asked = serve({
    "GET /me": curator,
    "GET /publishers": publishers,
    [`POST /keys/${fingerprint}/admission`]: new Problem(422, "What you typed differs in 2 places.", "Read it again."),
  });
  const user = userEvent.setup();
  show(<Decide k={key({})} />);
  await user.type(await screen.findByLabelText("Type the fingerprint"), "AAAA BBBB");
  await user.type(screen.getByLabelText("Why it counts"), "read at their desk");
  await screen.findByRole("option", { name: /Quoin/ });
  await user.click(screen.getByRole("button", { name: "Admit" }));
  expect((await screen.findByRole("alert")).textContent).toContain("What you typed differs in 2 places.");
  const sent = asked.find((a) => a.what.startsWith("POST"))?.body;
  expect(sent).toEqual({ typed: "AAAA BBBB", publisher: "quoin", role: "release", reason: "read at their desk" });
});

test("a key that has ended is admitted for the past, up to a day", async () => {
  const asked = serve({
    "GET /me": curator,
    "GET /publishers": publishers,
    [`POST /keys/${fingerprint}/admission`]: key({ state: "admitted" }),
  });
  const user = userEvent.setup();
  show(
    <Decide
      k={key({
        obstacles: [{ code: "expired", sentence: "It has expired.", before: "2024-06-30T00:00:00Z" }],
      })}
    />,
  );
  expect(await screen.findByText("Admit this key for the past")).toBeTruthy();
  await user.type(screen.getByLabelText("Type the fingerprint"), "AAAA");
  await user.type(screen.getByLabelText(/It counts for what it signed before/), "2024-05-01");
  await user.type(screen.getByLabelText("Why it counts"), "an old release");
  await screen.findByRole("option", { name: /Quoin/ });
  await user.click(screen.getByRole("button", { name: "Admit" }));
  await waitFor(() => {
    expect(asked.find((a) => a.what.startsWith("POST"))?.body).toMatchObject({ until: "2024-05-01T00:00:00Z" });
  });
});

test("who has proposed a key cannot admit it too", async () => {
  serve({ "GET /me": curator, "GET /publishers": publishers });
  const proposal = { by: "ines", at: "2026-10-01T08:00:00Z", publisher: "quoin", role: "release", reason: "seen" };
  show(<Decide k={key({ two_curators: true, proposal: proposal as Key["proposal"] })} />);
  expect(await screen.findByRole("button", { name: "Decline the proposal" })).toBeTruthy();
  expect(screen.queryByRole("button", { name: /Admit|Propose/ })).toBeNull();
});

test("a withdrawal shows its reach before it can be decided", async () => {
  const asked = serve({ "GET /me": curator });
  show(<Decide k={key({ state: "admitted" })} />);
  expect(await screen.findByRole("button", { name: "Show its reach" })).toBeTruthy();
  expect(screen.queryByRole("button", { name: "Withdraw" })).toBeNull();
  expect(asked.map((a) => a.what)).toEqual(["GET /me"]);
});
