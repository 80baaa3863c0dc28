import "@fontsource-variable/archivo/wdth.css";
import "@fontsource-variable/atkinson-hyperlegible-mono/wght.css";
import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";

import CssBaseline from "@mui/material/CssBaseline";
import { ThemeProvider } from "@mui/material/styles";
import { QueryClientProvider, useQuery } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter, Navigate } from "react-router";
import { RouterProvider } from "react-router/dom";

import { client, me } from "./api/queries";
import { FloorPlace } from "./floor/FloorPlace";
import { Frame } from "./shell/Frame";
import { recall } from "./shell/kept";
import { SignIn } from "./shell/SignIn";
import { theme } from "./theme/theme";

const router = createBrowserRouter([
  {
    path: "/",
    element: <Frame />,
    HydrateFallback: () => null,
    children: [
      { index: true, element: <Navigate to="/floor" replace /> },
      { path: "floor", element: <FloorPlace /> },
      // Later in the order of the work: fetched when they are first gone to.
      { path: "drift", lazy: async () => ({ Component: (await import("./drift/DriftPlace")).DriftPlace }) },
      {
        path: "baseline",
        lazy: async () => ({ Component: (await import("./baseline/BaselinePlace")).BaselinePlace }),
      },
      {
        path: "repository",
        lazy: async () => ({ Component: (await import("./repository/RepositoryPlace")).RepositoryPlace }),
      },
      {
        path: "run-sheet/:id?",
        lazy: async () => ({ Component: (await import("./runsheet/RunSheetPlace")).RunSheetPlace }),
      },
      {
        path: "record/trail",
        lazy: async () => ({ Component: (await import("./record/AuditTrail")).AuditTrail }),
      },
      {
        path: "people",
        lazy: async () => ({ Component: (await import("./people/PeoplePlace")).PeoplePlace }),
      },
      { path: "calls", lazy: async () => ({ Component: (await import("./calls/CallsPlace")).CallsPlace }) },
      { path: "house", lazy: async () => ({ Component: (await import("./house/HousePlace")).HousePlace }) },
      { path: "record/months", lazy: async () => ({ Component: (await import("./record/Months")).Months }) },
      {
        path: "record/:id?",
        lazy: async () => ({ Component: (await import("./record/RecordPlace")).RecordPlace }),
      },
      { path: "*", element: <Navigate to="/floor" replace /> },
    ],
  },
]);

function App() {
  const { data, error } = useQuery(me);
  if (error) return <p role="alert">{error.message}</p>;
  if (!data) return null;
  return data.name ? <RouterProvider router={router} /> : <SignIn />;
}

recall();
const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <ThemeProvider theme={theme} defaultMode="system">
        <CssBaseline enableColorScheme />
        <QueryClientProvider client={client}>
          <App />
        </QueryClientProvider>
      </ThemeProvider>
    </StrictMode>,
  );
}
