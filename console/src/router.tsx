import type { ComponentType } from "react";
import { createBrowserRouter, Outlet } from "react-router";

import { Shell } from "./parts/shell";
import { NotFound, NotLoaded } from "./parts/not-found";
import { OverviewPage } from "./pages/overview/overview-page";

/** A page that is loaded when it is first gone to. */
function page<Name extends string>(load: () => Promise<Record<Name, ComponentType>>, name: Name) {
  return { Component: async () => (await load())[name] };
}

export const router = createBrowserRouter([
  {
    path: "/sign-in",
    lazy: page(() => import("./pages/signin/sign-in-page"), "SignInPage"),
    hydrateFallbackElement: <p className="p-4">Loading…</p>,
  },
  {
    element: (
      <Shell>
        <Outlet />
      </Shell>
    ),
    hydrateFallbackElement: <p className="p-4">Loading…</p>,
    errorElement: <NotLoaded />,
    children: [
      { path: "/", element: <OverviewPage /> },
      { path: "/attention", lazy: page(() => import("./pages/attention/attention-page"), "AttentionPage") },
      { path: "/spot", lazy: page(() => import("./pages/spot/spot-page"), "SpotPage") },
      { path: "/batches", lazy: page(() => import("./pages/batches/batches-page"), "BatchesPage") },
      { path: "/batches/new", lazy: page(() => import("./pages/batches/new-batch-page"), "NewBatchPage") },
      { path: "/batches/:batch", lazy: page(() => import("./pages/batch/batch-page"), "BatchPage") },
      { path: "/batches/:batch/compared/:other", lazy: page(() => import("./pages/comparison/comparison-page"), "ComparisonPage") },
      { path: "/batches/:batch/items/:item", lazy: page(() => import("./pages/item/item-page"), "ItemPage") },
      { path: "/manifests", lazy: page(() => import("./pages/manifests/manifests-page"), "ManifestsPage") },
      { path: "/keyring", lazy: page(() => import("./pages/keyring/keyring-page"), "KeyringPage") },
      { path: "/keyring/desk", lazy: page(() => import("./pages/keyring/desk-page"), "DeskPage") },
      { path: "/keyring/look-up", lazy: page(() => import("./pages/keyring/look-up-page"), "LookUpPage") },
      { path: "/keyring/import", lazy: page(() => import("./pages/keyring/import-page"), "ImportPage") },
      { path: "/keyring/inspect", lazy: page(() => import("./pages/keyring/inspect-page"), "InspectPage") },
      { path: "/keyring/:fingerprint", lazy: page(() => import("./pages/key/key-page"), "KeyPage") },
      { path: "/devices", lazy: page(() => import("./pages/devices/devices-page"), "DevicesPage") },
      { path: "/devices/:device", lazy: page(() => import("./pages/device/device-page"), "DevicePage") },
      { path: "/satchels", lazy: page(() => import("./pages/satchels/satchels-page"), "SatchelsPage") },
      { path: "/satchels/:satchel", lazy: page(() => import("./pages/satchel/satchel-page"), "SatchelPage") },
      { path: "/people", lazy: page(() => import("./pages/people/people-page"), "PeoplePage") },
      { path: "/policy", lazy: page(() => import("./pages/policy/policy-page"), "PolicyPage") },
      { path: "/reassessments", lazy: page(() => import("./pages/reassessments/reassessments-page"), "ReassessmentsPage") },
      { path: "/reassessments/:reassessment", lazy: page(() => import("./pages/reassessments/reassessments-page"), "ReassessmentPage") },
      { path: "/references", lazy: page(() => import("./pages/references/references-page"), "ReferencesPage") },
      { path: "/records", lazy: page(() => import("./pages/records/records-page"), "RecordsPage") },
      { path: "/records/:record", lazy: page(() => import("./pages/record/record-page"), "RecordPage") },
      { path: "*", element: <NotFound what="There is no page at this address." /> },
    ],
  },
]);
