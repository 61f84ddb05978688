// @vitest-environment jsdom
import { screen } from "@testing-library/react";
import { expect, test } from "vitest";

import { serve, show } from "../../testing/service";
import { hand, handed } from "./handed";
import { SpotPage } from "./spot-page";

const files = [{ path: "lamp.img", file: new File(["lamp"], "lamp.img") }];

test("files that were dropped on another page wait here for what may be pasted, once", async () => {
  serve({ "GET /me": { name: "ines", full_name: "Ines Corvane", role: "operator" }, "GET /publishers": { items: [] } });
  hand(files);
  const { unmount } = show(<SpotPage />);
  expect(await screen.findByText(/It begins in a moment/)).toBeTruthy();
  unmount();
  show(<SpotPage />);
  await screen.findByText("Choose a folder"); // the page stands
  expect(screen.queryByText(/It begins in a moment/)).toBeNull();
});

test("a page that is drawn and given up before it stands takes nothing", () => {
  hand(files);
  expect(handed()).toBe(files);
  expect(handed()).toBe(files);
});
