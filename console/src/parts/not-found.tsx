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
