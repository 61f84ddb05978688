import { LogOut, Moon, Sun } from "lucide-react";
import { type ReactNode, useEffect, useState } from "react";
import { Navigate, NavLink, useLocation, useNavigate } from "react-router";

import { Failure } from "../api/client";
import { useMe, useSignOut } from "../api/people";
import { useTrouble } from "../api/records";
import { Wordmark } from "./wordmark";
import { ProblemNote } from "./problem-note";

const places = [
  { to: "/", name: "Overview" },
  { to: "/spot", name: "Spot check" },
  { to: "/batches", name: "Batches" },
  { to: "/manifests", name: "Manifests" },
  { to: "/keyring", name: "Keyring" },
  { to: "/devices", name: "Devices" },
  { to: "/policy", name: "Policy" },
  { to: "/records", name: "Records" },
  { to: "/people", name: "People" },
];

/** The frame around every page but sign-in. */
export function Shell({ children }: { children: ReactNode }) {
  const me = useMe();
  const here = useLocation();
  useTitle();
  if (me.error instanceof Failure && me.error.problem.status === 401) {
    return <Navigate to="/sign-in" state={{ from: here.pathname + here.search }} replace />;
  }
  return (
    <div className="min-h-dvh bg-base-100 text-base-content">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:p-2">
        Skip to the page
      </a>
      <header className="border-b border-base-300 bg-base-200">
        <div className="mx-auto flex max-w-6xl items-center gap-x-3 px-4 py-2 sm:gap-x-6">
          <Wordmark />
          <nav aria-label="Main" className="flex min-w-0 gap-1 overflow-x-auto">
            {places.map((place) => (
              <NavLink
                key={place.to}
                to={place.to}
                end={place.to === "/"}
                className={({ isActive }) =>
                  `rounded px-2.5 py-1 whitespace-nowrap ${isActive ? "bg-base-300 font-semibold" : "hover:bg-base-300/60"}`
                }
              >
                {place.name}
              </NavLink>
            ))}
          </nav>
          <div className="ml-auto flex shrink-0 items-center gap-2">
            <ThemeSwitch />
            {me.data && <Person name={me.data.full_name || me.data.name} role={me.data.role} />}
          </div>
        </div>
      </header>
      <main id="page" className="mx-auto max-w-6xl px-4 py-5">
        {me.error && <ProblemNote error={me.error} />}
        {me.data && <Trouble />}
        {me.data && children}
      </main>
      <footer className="soft mx-auto max-w-6xl px-4 pb-5 text-sm">
        <a className="link" href="/licences.txt">
          Licences of what this is made of
        </a>
      </footer>
    </div>
  );
}

/** What is wrong with the ledger comes first on every page. */
function Trouble() {
  const trouble = useTrouble();
  if (!trouble.data) return null;
  return (
    <section role="alert" className="mb-4 rounded border-2 border-error p-3">
      <p className="font-semibold text-error">The ledger is not in order: rely on nothing here until the administrator has looked.</p>
      <p className="mt-1 break-words">{trouble.data}</p>
    </section>
  );
}

/** Names the window after the heading of the page, whichever it is. */
function useTitle() {
  useEffect(() => {
    const name = () => {
      const heading = document.querySelector("main h1")?.textContent;
      const title = heading ? `${heading} – Endeixis` : "Endeixis";
      if (document.title !== title) document.title = title;
    };
    const seen = new MutationObserver(name);
    seen.observe(document.body, { childList: true, subtree: true, characterData: true });
    name();
    return () => {
      seen.disconnect();
    };
  }, []);
}

function Person({ name, role }: { name: string; role: string }) {
  const signOut = useSignOut();
  const go = useNavigate();
  return (
    <>
      <span className="hidden whitespace-nowrap lg:inline">
        {name} <span className="soft">({role})</span>
      </span>
      <button
        type="button"
        className="btn btn-ghost btn-sm btn-square"
        aria-label="Sign out"
        title={`Sign out ${name} (${role})`}
        onClick={() => {
          signOut.mutate(undefined, { onSettled: () => void go("/sign-in") });
        }}
      >
        <LogOut size={16} aria-hidden />
      </button>
    </>
  );
}

function ThemeSwitch() {
  const [theme, setTheme] = useState(() => document.documentElement.dataset.theme ?? "day-watch");
  const next = theme === "day-watch" ? "night-watch" : "day-watch";
  return (
    <button
      type="button"
      className="btn btn-ghost btn-sm btn-square"
      aria-label={next === "night-watch" ? "Dark theme" : "Light theme"}
      title={next === "night-watch" ? "Dark theme" : "Light theme"}
      onClick={() => {
        document.documentElement.dataset.theme = next;
        localStorage.setItem("endeixis-theme", next);
        setTheme(next);
      }}
    >
      {next === "night-watch" ? <Moon size={16} aria-hidden /> : <Sun size={16} aria-hidden />}
    </button>
  );
}
