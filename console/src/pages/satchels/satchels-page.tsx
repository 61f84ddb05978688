import { useState, type SubmitEvent } from "react";
import { Link, useNavigate } from "react-router";

import { usePublishers } from "../../api/publishers";
import { mayOperate, useMe } from "../../api/people";
import { usePackSatchel, useReturnOutcomes, useSatchels } from "../../api/satchels";
import { Empty } from "../../parts/empty";
import { FileField, TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { base64, count, groups, moment, unbase64 } from "../../parts/text";

export function SatchelsPage() {
  const list = useSatchels();
  const me = useMe();
  const satchels = list.data?.items ?? [];
  return (
    <div className="flex flex-col gap-5">
      <div>
        <h1>Satchels</h1>
        <p className="soft">
          A satchel is one signed file to judge by where there is no network. What is judged there comes back as a file of outcomes, goes on
          record, and is judged again with what is known by then.
        </p>
      </div>
      {mayOperate(me.data) && (
        <div className="grid gap-4 md:grid-cols-2">
          <PackForm />
          <ReturnForm />
        </div>
      )}
      <section className="flex flex-col gap-2">
        <h2>Packed</h2>
        {list.error && <ProblemNote error={list.error} />}
        {list.data && satchels.length === 0 && <Empty>No satchel was packed yet.</Empty>}
        {satchels.length > 0 && (
          <div className="overflow-x-auto">
            <table className="table table-sm">
              <thead>
                <tr>
                  <th>Satchel</th>
                  <th>For</th>
                  <th>Packed</th>
                  <th>Good until</th>
                  <th className="text-right">Keys</th>
                  <th>Came back</th>
                </tr>
              </thead>
              <tbody>
                {satchels.map((s) => (
                  <tr key={s.id}>
                    <td>
                      <Link to={`/satchels/${s.id}`} className="quiet-link">
                        {s.label || s.id.slice(0, 8)}
                      </Link>
                    </td>
                    <td>{s.publishers.join(", ")}</td>
                    <td className="whitespace-nowrap">
                      {moment(s.packed)} by {s.by}
                    </td>
                    <td className="whitespace-nowrap">
                      {moment(s.until)}
                      {s.ended ? " (ended)" : " (it is out)"}
                    </td>
                    <td className="text-right">{s.keys.length}</td>
                    <td>{s.returned > 0 ? count(s.returned, "outcome") : "nothing yet"}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </section>
    </div>
  );
}

/** Hands a file to the person, to be saved. */
function save(name: string, content: Uint8Array<ArrayBuffer>) {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([content], { type: "application/octet-stream" }));
  link.download = name;
  link.click();
  URL.revokeObjectURL(link.href);
}

function PackForm() {
  const publishers = usePublishers();
  const pack = usePackSatchel();
  const [chosen, setChosen] = useState<string[]>([]);
  const [days, setDays] = useState(14);
  const [label, setLabel] = useState("");
  const packed = pack.data;
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    pack.mutate(
      { publishers: chosen, days, label: label || undefined },
      {
        onSuccess: (made) => {
          save(`${fileName(label) || made.id.slice(0, 8)}.satchel`, unbase64(made.file));
        },
      },
    );
  };
  return (
    <form onSubmit={submit} className="flex flex-col gap-3 rounded-box border border-base-300 bg-base-200 p-4">
      <h2>Pack one</h2>
      <fieldset>
        <legend className="font-semibold">Whose releases are to be judged with it</legend>
        <div className="flex flex-wrap gap-x-4 gap-y-1">
          {publishers.data?.items.map((p) => (
            <label key={p.slug} className="flex items-center gap-2">
              <input
                type="checkbox"
                className="checkbox"
                checked={chosen.includes(p.slug)}
                onChange={(e) => {
                  setChosen(e.target.checked ? [...chosen, p.slug] : chosen.filter((slug) => slug !== p.slug));
                }}
              />
              {p.name}
            </label>
          ))}
        </div>
      </fieldset>
      <div className="flex flex-wrap gap-3">
        <TextField
          label="Good for, in days"
          type="number"
          className="w-24"
          min={1}
          max={90}
          required
          value={days}
          onChange={(e) => {
            setDays(e.target.valueAsNumber);
          }}
        />
        <TextField label="Label" className="w-56" maxLength={200} value={label} change={setLabel} />
      </div>
      <button type="submit" className="btn btn-primary self-start" disabled={pack.isPending || chosen.length === 0}>
        Pack and save
      </button>
      {pack.error && <ProblemNote error={pack.error} />}
      {packed && (
        <p role="status">
          Packed, with {count(packed.keys.length, "key")} by which it can clear something and {count(packed.references, "file")} that were
          cleared. It is good until {moment(packed.until)}.
        </p>
      )}
    </form>
  );
}

/** What a label becomes as the name of a file. */
export const fileName = (label: string) =>
  label
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, "-")
    .replace(/^-|-$/g, "")
    .slice(0, 60);

function ReturnForm() {
  const bring = useReturnOutcomes();
  const go = useNavigate();
  const [file, setFile] = useState<File>();
  const [key, setKey] = useState("");
  const submit = async (event: SubmitEvent) => {
    event.preventDefault();
    if (!file) return;
    const content = new Uint8Array(await file.arrayBuffer());
    bring.mutate(
      { file: base64(content), key: key || undefined },
      {
        onSuccess: (s) => {
          if (s.visits.every((v) => !v.refused)) void go(`/satchels/${s.id}`);
        },
      },
    );
  };
  return (
    <form onSubmit={(event) => void submit(event)} className="flex flex-col gap-3 rounded-box border border-base-300 bg-base-200 p-4">
      <h2>Bring outcomes back</h2>
      <FileField
        label="The file that was written on site"
        required
        take={([chosen]) => {
          setFile(chosen);
        }}
      />
      <TextField
        label="The key that was shown there"
        hint={`Sixteen digits, such as ${groups("a1b2c3d4e5f60718").join(" ").toUpperCase()}. May be left open.`}
        className="w-64 font-mono"
        maxLength={60}
        value={key}
        change={setKey}
      />
      <button type="submit" className="btn self-start" disabled={bring.isPending || !file}>
        Take it back
      </button>
      {bring.isPending && <p role="status">It is being judged again…</p>}
      {bring.error && <ProblemNote error={bring.error} />}
      {bring.data?.visits
        .filter((v) => v.refused)
        .map((v) => (
          <p key={v.number} role="alert">
            Outcome {v.number} was not taken: {v.refused}
          </p>
        ))}
    </form>
  );
}
