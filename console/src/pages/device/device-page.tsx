import { useState, type SubmitEvent } from "react";
import { Link, useParams } from "react-router";

import { closed } from "../../api/batches";
import { againstOf, useCheckDevices, useDevice, useFollowedCheck, useRetireDevice, type Device } from "../../api/devices";
import { mayCurate, mayOperate, useMe } from "../../api/people";
import { Empty } from "../../parts/empty";
import { AreaField, SelectField, TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { Holds, Slots } from "../../parts/slot";
import { moment } from "../../parts/text";
import { Mark } from "../../parts/verdict";
import { DeviceForm } from "../devices/device-form";

export function DevicePage() {
  const name = useParams().device ?? "";
  const query = useDevice(name);
  const me = useMe();
  const [changing, setChanging] = useState(false);
  if (query.error) return <ProblemNote error={query.error} />;
  const device = query.data;
  if (!device) return <p>Loading…</p>;
  return (
    <div className="flex flex-col gap-5">
      <div>
        <p className="text-sm">
          <Link to="/devices" className="quiet-link">
            Devices
          </Link>
        </p>
        <div className="flex flex-wrap items-center gap-3">
          <h1>{device.name}</h1>
          {mayCurate(me.data) && (
            <button
              type="button"
              className="btn btn-sm ml-auto"
              onClick={() => {
                setChanging(!changing);
              }}
            >
              Change
            </button>
          )}
        </div>
        <p className="soft">
          {[
            device.kind_title,
            device.place,
            device.address || "only a person can reach it",
            device.publisher && `runs releases of ${device.publisher}`,
          ]
            .filter(Boolean)
            .join(", ")}
          . Set by {device.by} on {moment(device.at)},{" "}
          <Link to={`/records/${device.record}`} className="quiet-link">
            record {device.record}
          </Link>
          .
        </p>
        {device.retired && <p className="font-semibold">Retired: {device.retired}</p>}
      </div>
      {changing && (
        <div className="flex flex-col gap-3">
          <DeviceForm
            device={device}
            done={() => {
              setChanging(false);
            }}
          />
          {!device.retired && <Retire name={device.name} />}
        </div>
      )}
      <section className="flex flex-col gap-2">
        <h2>In its slots</h2>
        <Slots slots={device.slots} />
      </section>
      {mayOperate(me.data) && !device.retired && <CheckForm device={device} />}
      <section className="flex flex-col gap-2">
        <h2>History</h2>
        {device.history.length === 0 ? (
          <Empty>It was never asked.</Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="table table-sm">
              <thead>
                <tr>
                  <th>When</th>
                  <th>Slot</th>
                  <th>Verdict</th>
                  <th>Holds</th>
                  <th>By</th>
                  <th>Batch</th>
                </tr>
              </thead>
              <tbody>
                {device.history.map((c) => (
                  <tr key={`${c.batch}.${c.n}`}>
                    <td className="whitespace-nowrap">{moment(c.at)}</td>
                    <td>{c.slot}</td>
                    <td>
                      <Mark word={c.now ?? c.verdict} />
                    </td>
                    <td>
                      <Holds check={c} />
                      {c.algorithm && (
                        <span className="block font-mono text-sm break-all soft">
                          {c.algorithm} {c.digest?.slice(0, 16)}
                          {(c.digest?.length ?? 0) > 16 && "…"}
                        </span>
                      )}
                    </td>
                    <td>
                      {c.by}
                      {c.typed && ", copied"}
                    </td>
                    <td>
                      <Link to={`/batches/${c.batch}/items/${c.n}`} className="quiet-link">
                        {c.batch}
                      </Link>
                    </td>
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

function CheckForm({ device }: { device: Device }) {
  const check = useCheckDevices();
  const typed = device.reach === "typed";
  const [slot, setSlot] = useState(typed ? (device.slots[0]?.slot ?? "") : "");
  const [against, setAgainst] = useState("");
  const [printed, setPrinted] = useState("");
  const batch = check.data?.items[0];
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    check.mutate({
      key: crypto.randomUUID(),
      body: {
        device: device.name,
        slots: slot ? [slot] : undefined,
        against: againstOf(against),
        printed: printed || undefined,
        label: against ? "before activation" : "what is in it",
      },
    });
  };
  return (
    <section className="flex flex-col gap-3">
      <h2>Check before it is activated</h2>
      <form onSubmit={submit} className="grid gap-3 rounded-box border border-base-300 bg-base-200 p-4 md:grid-cols-[12rem_1fr]">
        <SelectField label="Slot" value={slot} change={setSlot}>
          {!typed && <option value="">all of them</option>}
          {device.slots.map((s) => (
            <option key={s.slot} value={s.slot}>
              {s.title}
            </option>
          ))}
        </SelectField>
        <TextField
          label="Held against"
          hint="A file that was verified, as depot:path; the number of its record; or a digest. Left open, the release is looked for among all that were cleared."
          value={against}
          change={setAgainst}
        />
        {typed && (
          <div className="md:col-span-2">
            <AreaField
              label="Copied from its console"
              hint="The value is found in what stands there."
              className="h-24 w-full font-mono"
              required
              value={printed}
              change={setPrinted}
            />
          </div>
        )}
        <div className="md:col-span-2">
          <button type="submit" className="btn btn-primary" disabled={check.isPending}>
            {typed ? "Check it" : "Ask the device"}
          </button>
        </div>
      </form>
      {check.error && <ProblemNote error={check.error} />}
      {batch && <Followed batch={batch.id} name={device.name} />}
    </section>
  );
}

function Followed({ batch, name }: { batch: number; name: string }) {
  const query = useFollowedCheck(batch, name);
  if (query.error) return <ProblemNote error={query.error} />;
  const b = query.data;
  return (
    <p role="status" className="flex flex-wrap items-center gap-2">
      {!closed(b) && "The device is being asked…"}
      {closed(b) && b && (
        <>
          <Mark word={b.verdict ?? b.state} />
          {b.note}
        </>
      )}
      <Link to={`/batches/${batch}`} className="quiet-link">
        batch {batch}
      </Link>
    </p>
  );
}

function Retire({ name }: { name: string }) {
  const retire = useRetireDevice(name);
  const [reason, setReason] = useState("");
  return (
    <form
      className="flex flex-wrap items-end gap-2"
      onSubmit={(event) => {
        event.preventDefault();
        retire.mutate(reason);
      }}
    >
      <TextField label="Ask it no more, because" className="w-72" required maxLength={1000} value={reason} change={setReason} />
      <button type="submit" className="btn" disabled={retire.isPending}>
        Retire it
      </button>
      {retire.error && <ProblemNote error={retire.error} />}
    </form>
  );
}
