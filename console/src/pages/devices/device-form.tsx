import { useState, type SubmitEvent } from "react";

import { useDeviceKinds, useSetDevice, type Device } from "../../api/devices";
import { Field } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherSelect } from "../../parts/publisher-select";

/** Adds a device, or changes what is known of one. */
export function DeviceForm({ device, done }: { device?: Device; done: () => void }) {
  const kinds = useDeviceKinds();
  const set = useSetDevice();
  const [name, setName] = useState(device?.name ?? "");
  const [kind, setKind] = useState(device?.kind ?? "");
  const [address, setAddress] = useState(device?.address ?? "");
  const [credential, setCredential] = useState(device?.credential ?? "");
  const [publisher, setPublisher] = useState(device?.publisher ?? "");
  const [place, setPlace] = useState(device?.place ?? "");
  const chosen = kinds.data?.items.find((k) => k.name === kind);
  const typed = chosen?.reach === "typed";
  const submit = (event: SubmitEvent) => {
    event.preventDefault();
    const reached = typed ? {} : { address, credential };
    set.mutate({ name, body: { kind, publisher: publisher || undefined, place: place || undefined, ...reached } }, { onSuccess: done });
  };
  return (
    <form onSubmit={submit} className="grid gap-3 rounded-box border border-base-300 bg-base-200 p-4 md:grid-cols-2">
      {!device && (
        <Field label="Name">
          {(id) => (
            <input
              id={id}
              className="input w-full"
              required
              maxLength={60}
              value={name}
              onChange={(e) => {
                setName(e.target.value);
              }}
            />
          )}
        </Field>
      )}
      <Field label="Kind" hint={chosen && `${chosen.title}: ${chosen.algorithms.join(", ")}`}>
        {(id) => (
          <select
            id={id}
            className="select w-full"
            required
            value={kind}
            onChange={(e) => {
              setKind(e.target.value);
            }}
          >
            <option value="" disabled>
              choose
            </option>
            {kinds.data?.items.map((k) => (
              <option key={k.name}>{k.name}</option>
            ))}
          </select>
        )}
      </Field>
      {!typed && (
        <>
          <Field label="Address" hint="Host and port. Its host key must have been confirmed on the service's host.">
            {(id) => (
              <input
                id={id}
                className="input w-full"
                required
                value={address}
                onChange={(e) => {
                  setAddress(e.target.value);
                }}
              />
            )}
          </Field>
          <Field label="Let in by" hint="The secret itself stays in a file on the service's host.">
            {(id) => (
              <select
                id={id}
                className="select w-full"
                required
                value={credential}
                onChange={(e) => {
                  setCredential(e.target.value);
                }}
              >
                <option value="" disabled>
                  choose
                </option>
                {kinds.data?.credentials.map((c) => (
                  <option key={c}>{c}</option>
                ))}
              </select>
            )}
          </Field>
        </>
      )}
      <Field label="Runs releases of">
        {(id) => <PublisherSelect id={id} value={publisher} change={setPublisher} none="nobody in particular" />}
      </Field>
      <Field label="Place">
        {(id) => (
          <input
            id={id}
            className="input w-full"
            maxLength={200}
            value={place}
            onChange={(e) => {
              setPlace(e.target.value);
            }}
          />
        )}
      </Field>
      {set.error && (
        <div className="md:col-span-2">
          <ProblemNote error={set.error} />
        </div>
      )}
      <div className="flex gap-2 md:col-span-2">
        <button type="submit" className="btn btn-primary" disabled={set.isPending}>
          Keep it
        </button>
        <button type="button" className="btn" onClick={done}>
          Leave it as it is
        </button>
      </div>
    </form>
  );
}
