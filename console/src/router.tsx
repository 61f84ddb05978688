import { createBrowserRouter, Outlet } from "react-router";

import { Shell } from "./parts/shell";
import { BatchPage } from "./pages/batch/batch-page";
import { BatchesPage } from "./pages/batches/batches-page";
import { NewBatchPage } from "./pages/batches/new-batch-page";
import { ItemPage } from "./pages/item/item-page";
import { KeyPage } from "./pages/key/key-page";
import { DeskPage } from "./pages/keyring/desk-page";
import { ImportPage } from "./pages/keyring/import-page";
import { InspectPage } from "./pages/keyring/inspect-page";
import { LookUpPage } from "./pages/keyring/look-up-page";
import { KeyringPage } from "./pages/keyring/keyring-page";
import { ManifestsPage } from "./pages/manifests/manifests-page";
import { NotFound } from "./parts/not-found";
import { OverviewPage } from "./pages/overview/overview-page";
import { PeoplePage } from "./pages/people/people-page";
import { PolicyPage } from "./pages/policy/policy-page";
import { ReassessmentPage, ReassessmentsPage } from "./pages/reassessments/reassessments-page";
import { RecordPage } from "./pages/record/record-page";
import { RecordsPage } from "./pages/records/records-page";
import { SpotPage } from "./pages/spot/spot-page";
import { SignInPage } from "./pages/signin/sign-in-page";

export const router = createBrowserRouter([
  { path: "/sign-in", element: <SignInPage /> },
  {
    element: (
      <Shell>
        <Outlet />
      </Shell>
    ),
    children: [
      { path: "/", element: <OverviewPage /> },
      { path: "/spot", element: <SpotPage /> },
      { path: "/batches", element: <BatchesPage /> },
      { path: "/batches/new", element: <NewBatchPage /> },
      { path: "/batches/:batch", element: <BatchPage /> },
      { path: "/batches/:batch/items/:item", element: <ItemPage /> },
      { path: "/manifests", element: <ManifestsPage /> },
      { path: "/keyring", element: <KeyringPage /> },
      { path: "/keyring/desk", element: <DeskPage /> },
      { path: "/keyring/look-up", element: <LookUpPage /> },
      { path: "/keyring/import", element: <ImportPage /> },
      { path: "/keyring/inspect", element: <InspectPage /> },
      { path: "/keyring/:fingerprint", element: <KeyPage /> },
      { path: "/people", element: <PeoplePage /> },
      { path: "/policy", element: <PolicyPage /> },
      { path: "/reassessments", element: <ReassessmentsPage /> },
      { path: "/reassessments/:reassessment", element: <ReassessmentPage /> },
      { path: "/records", element: <RecordsPage /> },
      { path: "/records/:record", element: <RecordPage /> },
      { path: "*", element: <NotFound what="There is no page at this address." /> },
    ],
  },
]);
