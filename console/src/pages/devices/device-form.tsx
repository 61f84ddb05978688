import { useState, type SubmitEvent } from "react";

import { useDeviceKinds, useSetDevice, type Device } from "../../api/devices";
import { SelectField, TextField } from "../../parts/field";
import { ProblemNote } from "../../parts/problem-note";
import { PublisherField } from "../../parts/publisher-select";

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
      {!device && <TextField label="Name" required maxLength={60} value={name} change={setName} />}
      <SelectField label="Kind" hint={chosen && `${chosen.title}: ${chosen.algorithms.join(", ")}`} required value={kind} change={setKind}>
        <option value="" disabled>
          choose
        </option>
        {kinds.data?.items.map((k) => (
          <option key={k.name}>{k.name}</option>
        ))}
      </SelectField>
      {!typed && (
        <>
          <TextField
            label="Address"
            hint="Host and port. Its host key must have been confirmed on the service's host."
            required
            value={address}
            change={setAddress}
          />
          <SelectField
            label="Let in by"
            hint="The secret itself stays in a file on the service's host."
            required
            value={credential}
            change={setCredential}
          >
            <option value="" disabled>
              choose
            </option>
            {kinds.data?.credentials.map((c) => (
              <option key={c}>{c}</option>
            ))}
          </SelectField>
        </>
      )}
      <PublisherField label="Runs releases of" value={publisher} change={setPublisher} none="nobody in particular" />
      <TextField label="Place" maxLength={200} value={place} change={setPlace} />
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
