import { Trash2 } from "lucide-react";
import { useState } from "react";

import type { ComesFrom, GivenCopy, Planned } from "../../api/client";
import { useOrigins } from "../../api/depots";
import { manifestChannelValues } from "../../api/words";
import { AreaField, Field, SelectField, TextField } from "../../parts/field";
import { say } from "../../parts/text";

/** What the manifests of a batch are held against, and where they come from. */
export interface Against {
  origins: ComesFrom[];
  copies: GivenCopy[];
}

export const nothing: Against = { origins: [], copies: [] };

type Channel = (typeof manifestChannelValues)[number];

const said = say;

interface Props {
  manifests: Planned[];
  against: Against;
  hold: (against: Against) => void;
}

/** Other copies of a manifest that nobody signed, and where it comes from itself. */
export function CopiesForm({ manifests, against, hold }: Props) {
  const [of, setOf] = useState("");
  const first = manifests.find((m) => m.signatures.length === 0) ?? manifests[0];
  if (!first) return null;
  const chosen = manifests.find((m) => m.path === of) ?? first;
  return (
    <details open={against.copies.length > 0 || undefined}>
      <summary className="cursor-pointer border-b border-base-300 pb-1 font-semibold">
        Hold a manifest against copies from elsewhere
      </summary>
      <p className="my-2 text-sm soft">
        A list that nobody signed is worth more when it is the same on several channels, and one copy that differs shows that something was
        altered.
      </p>
      {manifests.length > 1 && (
        <SelectField label="Manifest" className="select-sm w-full" value={chosen.path} change={setOf}>
          {manifests.map((m) => (
            <option key={m.path} value={m.path}>
              {m.shown}
            </option>
          ))}
        </SelectField>
      )}
      <div className="mt-2 grid gap-4 sm:grid-cols-2">
        <FetchForm
          of={chosen.path}
          add={(copy) => {
            hold({ ...against, copies: [...against.copies, copy] });
          }}
        />
        <PasteForm
          of={chosen.path}
          add={(copy) => {
            hold({ ...against, copies: [...against.copies, copy] });
          }}
        />
      </div>
      <OriginOf
        key={chosen.path}
        from={against.origins.find((o) => o.manifest === chosen.path)}
        set={(from) => {
          const others = against.origins.filter((o) => o.manifest !== chosen.path);
          hold({ ...against, origins: from ? [...others, { manifest: chosen.path, ...from }] : others });
        }}
      />
      <ul className="rows mt-2">
        {against.copies.map((c, i) => (
          <li key={i} className="flex items-center gap-2 py-1">
            <span className="min-w-0 flex-1 break-all">
              {c.of}: {c.origin ? `${c.origin}, ${c.path ?? ""}` : `${said(c.channel ?? "")}, ${c.place ?? ""}`}
            </span>
            <button
              type="button"
              className="btn btn-ghost btn-sm btn-square"
              aria-label={`Leave out copy ${i + 1}`}
              onClick={() => {
                hold({ ...against, copies: against.copies.filter((_, n) => n !== i) });
              }}
            >
              <Trash2 size={16} aria-hidden />
            </button>
          </li>
        ))}
      </ul>
    </details>
  );
}

/** A copy that the service fetches from a configured origin. */
function FetchForm({ of, add }: { of: string; add: (copy: GivenCopy) => void }) {
  const origins = useOrigins();
  const [origin, setOrigin] = useState("");
  const [path, setPath] = useState("");
  const list = origins.data?.items ?? [];
  const name = origin || (list[0]?.name ?? "");
  if (list.length === 0) return <p className="text-sm">No origin is configured from which copies could be fetched.</p>;
  return (
    <div className="flex flex-col gap-2">
      <SelectField label="Fetch one from" className="select-sm w-full" value={name} change={setOrigin}>
        {list.map((o) => (
          <option key={o.name} value={o.name}>
            {o.name} ({said(o.channel)})
          </option>
        ))}
      </SelectField>
      <TextField
        label="Path there"
        hint={list.find((o) => o.name === name)?.url}
        className="input-sm w-full"
        value={path}
        change={setPath}
      />
      <button
        type="button"
        className="btn btn-sm self-start"
        disabled={path === ""}
        onClick={() => {
          add({ of, origin: name, path });
          setPath("");
        }}
      >
        Add this copy
      </button>
    </div>
  );
}

/** A copy that somebody has: pasted, with where it is from. */
function PasteForm({ of, add }: { of: string; add: (copy: GivenCopy) => void }) {
  const [channel, setChannel] = useState<Channel>("paper");
  const [place, setPlace] = useState("");
  const [text, setText] = useState("");
  return (
    <div className="flex flex-col gap-2">
      <Field label="Or paste one that was had by">{(id) => <ChannelSelect id={id} value={channel} onChange={setChannel} />}</Field>
      <TextField label="Where exactly" className="input-sm w-full" maxLength={500} value={place} change={setPlace} />
      <AreaField label="Its text" className="textarea-sm w-full font-mono" rows={3} value={text} change={setText} />
      <button
        type="button"
        className="btn btn-sm self-start"
        disabled={text.trim() === ""}
        onClick={() => {
          add({ of, channel, place, text });
          setText("");
          setPlace("");
        }}
      >
        Add the pasted copy
      </button>
    </div>
  );
}

function ChannelSelect({ id, value, onChange }: { id: string; value: Channel; onChange: (channel: Channel) => void }) {
  return (
    <select
      id={id}
      className="select select-sm w-full"
      value={value}
      onChange={(e) => {
        onChange(e.target.value as Channel);
      }}
    >
      {manifestChannelValues.map((c) => (
        <option key={c} value={c}>
          {said(c)}
        </option>
      ))}
    </select>
  );
}

/** Where the manifest in the folder itself comes from, which counts as a channel too. */
function OriginOf({ from, set }: { from?: ComesFrom; set: (from?: { channel: Channel; place: string }) => void }) {
  return (
    <Field label="The one in the folder comes from">
      {(id) => (
        <div className="flex flex-wrap gap-2">
          <select
            id={id}
            className="select select-sm w-auto"
            value={from?.channel ?? ""}
            onChange={(e) => {
              set(e.target.value === "" ? undefined : { channel: e.target.value as Channel, place: from?.place ?? "" });
            }}
          >
            <option value="">not known</option>
            {manifestChannelValues.map((c) => (
              <option key={c} value={c}>
                {said(c)}
              </option>
            ))}
          </select>
          {from && (
            <input
              aria-label="Place it comes from"
              className="input input-sm min-w-0 flex-1"
              maxLength={500}
              value={from.place ?? ""}
              onChange={(e) => {
                set({ channel: from.channel, place: e.target.value });
              }}
            />
          )}
        </div>
      )}
    </Field>
  );
}
