import "@fontsource-variable/atkinson-hyperlegible-mono/wght.css";
import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import "./theme.css";

import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { RouterProvider } from "react-router";

import { Failure } from "./api/client";
import { router } from "./router";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      // A clear answer of the service is final; only a silence is asked again.
      retry: (count, error) => !(error instanceof Failure && error.problem.status < 500) && count < 2,
      staleTime: 2_000,
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </StrictMode>,
  );
}
