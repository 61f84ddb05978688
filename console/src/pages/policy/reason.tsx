/** Why the policy changes, and whether it does: the end of each of its forms. */
export function Reason({
  value,
  change,
  pending,
  close,
}: {
  value: string;
  change: (reason: string) => void;
  pending: boolean;
  close: () => void;
}) {
  return (
    <>
      <label className="flex flex-col gap-1">
        <span className="font-semibold">Reason</span>
        <input
          className="input w-full"
          minLength={3}
          maxLength={1000}
          required
          value={value}
          onChange={(e) => {
            change(e.target.value);
          }}
        />
        <span className="text-sm soft">It goes on record with your name.</span>
      </label>
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary" disabled={pending}>
          Put in force
        </button>
        <button type="button" className="btn" onClick={close}>
          Leave it as it is
        </button>
      </div>
    </>
  );
}
