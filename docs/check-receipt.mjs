// Checks a receipt of an Endeixis ledger without any of its code:
//   node check-receipt.mjs RECEIPT.json PUBLIC-KEY
// It exits with 0 when the receipt holds, and with 10 when it does not.
import { createHash, createPublicKey, verify } from "node:crypto";
import { readFileSync } from "node:fs";
const sha256 = (...parts) => createHash("sha256").update(Buffer.concat(parts)).digest();
const need = (holds, why) => {
  if (!holds) throw new Error(why);
};

/** The public key is name+hash+base64 of a byte 1 and the 32 bytes of an Ed25519 key. */
function keyOf(text) {
  const [name, id, data] = text.split(/\+(.{8})\+/);
  const bytes = Buffer.from(data, "base64");
  need(bytes.length === 33 && bytes[0] === 1, "the public key is none");
  need(sha256(Buffer.from(name + "\n"), bytes).subarray(0, 4).toString("hex") === id, "the public key is damaged");
  const der = Buffer.concat([Buffer.from("302a300506032b6570032100", "hex"), bytes.subarray(1)]);
  return { name, id, key: createPublicKey({ key: der, format: "der", type: "spki" }) };
}

/** A checkpoint is a signed note: origin, size, root, and perhaps more lines. */
function open(signed, { name, id, key }) {
  const end = signed.lastIndexOf("\n\n");
  need(end > 0, "the checkpoint is not signed");
  const text = Buffer.from(signed.slice(0, end + 1));
  const signatures = signed.slice(end + 2).split("\n").filter((line) => line.startsWith(`— ${name} `));
  const ours = signatures.map((line) => Buffer.from(line.split(" ")[2], "base64")).filter((s) => s.subarray(0, 4).toString("hex") === id);
  need(ours.some((s) => verify(null, text, key, s.subarray(4))), "the key has not signed the checkpoint");
  const [, size, root] = text.toString().split("\n");
  need(/^(0|[1-9][0-9]*)$/.test(size), "the checkpoint's size is none");
  return { size: BigInt(size), root: Buffer.from(root, "base64") };
}

/** Follows an inclusion proof to the root (RFC 9162, section 2.1.3.2). */
function rootBy(position, size, leaf, proof) {
  let [fn, sn, hash] = [position, size - 1n, leaf];
  for (const step of proof) {
    need(sn > 0n, "the proof has too many hashes");
    if (fn & 1n || fn === sn) {
      hash = sha256(Buffer.from([1]), step, hash);
      while (!(fn & 1n) && fn > 0n) [fn, sn] = [fn >> 1n, sn >> 1n];
    } else hash = sha256(Buffer.from([1]), hash, step);
    [fn, sn] = [fn >> 1n, sn >> 1n];
  }
  need(sn === 0n, "the proof has too few hashes");
  return hash;
}

try {
  const receipt = JSON.parse(readFileSync(process.argv[2], "utf8"));
  need(receipt.format === "endeixis-receipt-1" && Number.isSafeInteger(receipt.position), "it is not a receipt");
  const { size, root } = open(receipt.checkpoint, keyOf(process.argv[3]));
  need(receipt.position >= 0 && BigInt(receipt.position) < size, "the record is not within the ledger");
  const leaf = sha256(Buffer.from([0]), Buffer.from(receipt.record));
  need(rootBy(BigInt(receipt.position), size, leaf, receipt.proof.map((h) => Buffer.from(h, "base64"))).equals(root), "the record is not the one at its place");
  console.log(`The receipt holds: record ${receipt.position} of ${size}.`);
} catch (why) {
  console.log(`The receipt does not hold: ${why.message}.`);
  process.exit(10);
}
