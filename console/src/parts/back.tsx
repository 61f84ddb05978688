import { Link } from "react-router";

/** The way back to the list that a page belongs to. */
export function Back({ to, name }: { to: string; name: string }) {
  return (
    <p className="text-sm">
      <Link to={to} className="quiet-link">
        {name}
      </Link>
    </p>
  );
}
