// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { expect, test } from "vitest";

import type { Me } from "../../api/client";
import { Problem, serve, show } from "../../testing/service";
import { Tokens } from "./tokens";

const me: Me = { name: "ines", full_name: "Ines Corvane", role: "operator" };
const token = (id: number, label: string, over = {}) => ({
  id,
  owner: "ines",
  label,
  role: "operator",
  created: "2026-01-01T00:00:00Z",
  expires: "2999-01-01T00:00:00Z",
  ...over,
});

test("only tokens in force are shown, with what they are good for", async () => {
  serve({
    "GET /tokens": {
      items: [
        token(1, "gate", { depots: ["quayside"] }),
        token(2, "old", { expires: "2020-01-01T00:00:00Z" }),
        token(3, "ended", { revoked: "2026-02-01T00:00:00Z" }),
      ],
    },
  });
  show(<Tokens me={me} />);
  expect(await screen.findByText("gate")).toBeTruthy();
  expect(screen.getByText(/only for quayside/)).toBeTruthy();
  expect(screen.queryByText("old")).toBeNull();
  expect(screen.queryByText("ended")).toBeNull();
});

test("where there is none it says so, and where they cannot be had it says that instead", async () => {
  serve({ "GET /tokens": { items: [] } });
  show(<Tokens me={me} />);
  expect(await screen.findByText(/There is none/)).toBeTruthy();
});

test("a list that cannot be had is no empty list", async () => {
  serve({ "GET /tokens": new Problem(503, "The database does not answer.", "Try again.") });
  show(<Tokens me={me} />);
  expect((await screen.findByRole("alert")).textContent).toContain("The database does not answer.");
  expect(screen.queryByText(/There is none/)).toBeNull();
});

test("ending one asks for just that one", async () => {
  const asked = serve({ "GET /tokens": { items: [token(1, "gate"), token(4, "ship")] } });
  show(<Tokens me={me} />);
  await userEvent.setup().click(await screen.findByRole("button", { name: /the token ship/ }));
  expect(await screen.findByRole("alert")).toBeTruthy(); // nothing answers that here
  expect(asked.filter((a) => a.what.startsWith("DELETE")).map((a) => a.what)).toEqual(["DELETE /tokens/4"]);
});
