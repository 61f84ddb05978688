import { useState } from "react";
import { Link } from "react-router";

import { useCheckDevices, useDevices, type Device } from "../../api/devices";
import { mayCurate, mayOperate, useMe } from "../../api/people";
import { Empty } from "../../parts/empty";
import { ProblemNote } from "../../parts/problem-note";
import { Slots } from "../../parts/slot";
import { count } from "../../parts/text";
import { DeviceForm } from "./device-form";
import { KindForm, OwnKinds } from "./kind-form";

export function DevicesPage() {
  const me = useMe();
  const check = useCheckDevices();
  const asked = check.data?.items;
  const list = useDevices(asked !== undefined);
  const [adding, setAdding] = useState(false);
  const [describing, setDescribing] = useState(false);
  const devices = list.data?.items ?? [];
  const inUse = devices.filter((d) => !d.retired);
  const reachable = inUse.filter((d) => d.reach !== "typed");
  const waiting = (asked ?? []).filter(
    (b) => !devices.some((d) => d.slots.some((s) => (s.checked?.batch ?? 0) >= b.id && d.name === b.source.reference)),
  );
  return (
    <div className="flex flex-col gap-4">
      <div className="flex flex-wrap items-center gap-3">
        <h1>Devices</h1>
        <div className="ml-auto flex gap-2">
          {mayCurate(me.data) && (
            <>
              <button
                type="button"
                className="btn btn-sm"
                onClick={() => {
                  setDescribing(!describing);
                }}
              >
                Describe a kind
              </button>
              <button
                type="button"
                className="btn btn-sm"
                onClick={() => {
                  setAdding(!adding);
                }}
              >
                Add a device
              </button>
            </>
          )}
          {mayOperate(me.data) && reachable.length > 0 && (
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={check.isPending || waiting.length > 0}
              onClick={() => {
                check.mutate({ key: crypto.randomUUID(), body: { all: true, label: "all devices" } });
              }}
            >
              Ask all devices
            </button>
          )}
        </div>
      </div>
      <p className="soft">
        Equipment that computes a digest over what is in its slots. It is held against our own digest of a release that is cleared here.
      </p>
      {check.error && <ProblemNote error={check.error} />}
      {asked && (
        <p role="status">
          {waiting.length > 0
            ? `Waiting for ${count(waiting.length, "device")} of ${asked.length}…`
            : `All ${asked.length} have answered, or their time is up.`}
        </p>
      )}
      {adding && (
        <DeviceForm
          done={() => {
            setAdding(false);
          }}
        />
      )}
      {describing && (
        <KindForm
          done={() => {
            setDescribing(false);
          }}
        />
      )}
      {list.error && <ProblemNote error={list.error} />}
      {list.data && devices.length === 0 && <Empty>No device is known yet.</Empty>}
      {devices.length > 0 && (
        <ul className="rows">
          {[...inUse, ...devices.filter((d) => d.retired)].map((d) => (
            <Row key={d.name} device={d} />
          ))}
        </ul>
      )}
      <OwnKinds mayRetire={mayCurate(me.data)} />
    </div>
  );
}

function Row({ device }: { device: Device }) {
  return (
    <li className="grid gap-x-4 gap-y-1 py-2 md:grid-cols-[16rem_1fr]">
      <div>
        <Link to={`/devices/${device.name}`} className="quiet-link font-semibold">
          {device.name}
        </Link>{" "}
        <span className="text-sm soft">{device.place}</span>
        <div className="text-sm soft">{device.kind_title}</div>
      </div>
      {device.retired ? (
        <p className="soft">Retired: {device.retired}</p>
      ) : (
        <div className="flex flex-col gap-1">
          <Slots slots={device.slots} />
        </div>
      )}
    </li>
  );
}
