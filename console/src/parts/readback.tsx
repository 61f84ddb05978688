import { Link } from "react-router";

import type { components } from "../api/types";
import { DamageMap } from "./causes";
import { bytes, count, moment } from "./text";
import { Mark } from "./verdict";

type Report = components["schemas"]["Report"];
type Against = components["schemas"]["Against"];
type ReadBack = components["schemas"]["ReadBack"];

/** How a medium was read, and what was found on it. */
export function ReadbackReport({ report, against }: { report: Report; against?: Against }) {
  const { medium, damage } = report;
  const about = [medium.model, medium.serial, medium.label].filter(Boolean).join(", ");
  const unlike = report.structures?.filter((s) => s.length !== report.length || s.detail) ?? [];
  return (
    <section className="flex flex-col gap-2" data-readback>
      <h2>Readback</h2>
      <p>
        {medium.number ? `Medium ${medium.number}, ` : ""}
        {medium.name}
        {about && ` (${about})`}, {bytes(medium.size)}. Its first {report.length.toLocaleString("en")} bytes were compared
        {against?.batch !== undefined ? (
          <>
            {" with "}
            <Link to={`/batches/${against.batch}/items/${against.n ?? 0}`} className="quiet-link break-all">
              {against.shown}
            </Link>{" "}
            of batch {against.batch}
          </>
        ) : (
          report.length_from && `: the length of ${report.length_from}`
        )}
        .
      </p>
      {unlike.map((s) => (
        <p key={s.kind} className="text-sm">
          By its {s.kind} the image has {s.length.toLocaleString("en")} bytes{s.detail && `; ${s.detail}`}.
        </p>
      ))}
      {report.carried && <p className="text-sm">{report.carried}</p>}
      {report.gaps && report.gaps.length > 0 && (
        <p className="text-sm">It leaves out {count(report.gaps.length, "part")}, which are taken for FF.</p>
      )}
      {report.steadied !== undefined && (
        <p className="text-sm">{count(report.steadied, "place")} could be read only when tried again: the medium or the drive is weak.</p>
      )}
      {report.unreadable && (
        <Places
          caption={`Not readable: ${count(report.unreadable.length + (report.more_unreadable ?? 0), "part")}`}
          places={report.unreadable.map((r) => ({ ...r, looks: "it cannot be read" }))}
          more={report.more_unreadable ?? 0}
        />
      )}
      {damage && (
        <>
          <DamageMap damage={cells(damage.map, report.length)} size={report.length} rough />
          {damage.whole && <p>{damage.whole}</p>}
          <Places
            caption={`${damage.differing} of ${count(damage.of, "piece")} of ${bytes(damage.piece)} differ`}
            places={damage.differences}
            more={damage.more ?? 0}
          />
        </>
      )}
    </section>
  );
}

/** The parts of a medium that a map draws as not what they should be. */
export function cells(map: string, length: number): { offset: number; length: number }[] {
  const out: { offset: number; length: number }[] = [];
  const wide = length / Math.max(1, map.length);
  for (let i = 0; i < map.length; i++) {
    if (map[i] === "=") continue;
    const last = out.at(-1);
    if (last && map[i - 1] !== "=") last.length += wide;
    else out.push({ offset: i * wide, length: wide });
  }
  return out;
}

const few = 20;

function Places({ caption, places, more }: { caption: string; places: { offset: number; length: number; looks: string }[]; more: number }) {
  const left = Math.max(0, places.length - few) + more;
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm max-w-3xl">
        <caption className="pb-1 text-left font-semibold">{caption}</caption>
        <thead>
          <tr>
            <th scope="col">From byte</th>
            <th scope="col">Long</th>
            <th scope="col">What stands there</th>
          </tr>
        </thead>
        <tbody>
          {places.slice(0, few).map((p) => (
            <tr key={p.offset}>
              <td className="font-mono">{p.offset}</td>
              <td>{bytes(p.length)}</td>
              <td>{p.looks}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {left > 0 && <p className="text-sm soft">and {count(left, "more place", "more places")}</p>}
    </div>
  );
}

/** The media that were written from a file, as they were read back. */
export function WrittenTo({ media }: { media: ReadBack[] }) {
  return (
    <section className="flex flex-col gap-1">
      <h2>Read back from media</h2>
      <ul className="rows">
        {media.map((m) => (
          <li key={m.batch} className="flex flex-wrap items-baseline gap-3 py-1">
            <Mark word={m.now ?? m.verdict ?? "waiting"} />
            <Link to={`/batches/${m.batch}/items/${m.n}`} className="quiet-link break-all">
              {m.source}
            </Link>
            <span className="text-sm soft">{moment(m.at)}</span>
          </li>
        ))}
      </ul>
    </section>
  );
}
