import { Link } from "react-router";

/** A page for what is not there. */
export function NotFound({ what }: { what: string }) {
  return (
    <div className="py-10 text-center">
      <h1>{what}</h1>
      <p className="mt-2">
        Go back to the{" "}
        <Link to="/" className="quiet-link">
          overview
        </Link>
        .
      </p>
    </div>
  );
}

/** What stands in place of a page whose code did not arrive. */
export function NotLoaded() {
  return (
    <main className="mx-auto flex max-w-xl flex-col gap-3 p-6">
      <h1>This page could not be loaded</h1>
      <p>The service does not answer, or was renewed since this window was opened. Nothing is lost that is on record.</p>
      <button
        type="button"
        className="btn self-start"
        onClick={() => {
          location.reload();
        }}
      >
        Load it again
      </button>
    </main>
  );
}
