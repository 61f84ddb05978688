"""A measurer written from docs/formats.md alone, with nothing but the standard library.

usage: measurer.py SERVER TOKEN FOLDER   (prints the number of the batch and its verdict)
"""
import base64, binascii, hashlib, json, os, socket, sys, time, urllib.error, urllib.request

server, token, folder = sys.argv[1:4]

# Names of the algorithms in the tasks, and how Python calls those that it has.
HASHES = {"MD5": "md5", "SHA-1": "sha1", "SHA-224": "sha224", "SHA-256": "sha256", "SHA-384": "sha384", "SHA-512": "sha512",
          "SHA3-224": "sha3_224", "SHA3-256": "sha3_256", "SHA3-384": "sha3_384", "SHA3-512": "sha3_512",
          "SHA-512/256": "sha512_256", "SHA-512/224": "sha512_224", "RIPEMD-160": "ripemd160", "BLAKE2b-512": "blake2b", "BLAKE2s-256": "blake2s"}


def ask(method, path, body=None):
    request = urllib.request.Request(server + "/api/v1" + path, method=method, data=None if body is None else json.dumps(body).encode())
    request.add_header("Authorization", "Bearer " + token)
    request.add_header("Content-Type", "application/json")
    try:
        with urllib.request.urlopen(request) as answer:
            text = answer.read()
            return json.loads(text) if text else None
    except urllib.error.HTTPError as error:
        sys.exit(error.read().decode())


def moment(seconds):
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(seconds))


def listing():
    """Names, sizes and times of all files; of the small ones that are text or OpenPGP data the content too."""
    for where, _, names in os.walk(folder):
        for name in names:
            full = os.path.join(where, name)
            info = os.stat(full)
            one = {"path": os.path.relpath(full, folder).replace(os.sep, "/"), "size": info.st_size, "mod_time": moment(info.st_mtime)}
            if info.st_size <= 1 << 20:
                with open(full, "rb") as f:
                    content = f.read()
                if b"\0" not in content or name.endswith((".sig", ".key", ".pgp")):
                    one["content"] = base64.b64encode(content).decode()
            yield one


class Crc32:
    """The common CRC-32 with the interface of hashlib."""
    value = 0

    def update(self, data):
        self.value = binascii.crc32(data, self.value)

    def digest(self):
        return self.value.to_bytes(4, "big")


def hasher(task):
    if "expanded" in task or task.get("text"):
        sys.exit("this little program neither expands nor converts")
    h = Crc32() if task["algorithm"] == "CRC-32" else hashlib.new(HASHES[task["algorithm"]])
    h.update(base64.b64decode(task.get("before", "")))
    return h


def measure(target):
    tasks = target.get("tasks") or []
    hashes, size = [hasher(t) for t in tasks], 0
    try:
        with open(os.path.join(folder, target["path"]), "rb") as f:
            while block := f.read(1 << 20):
                size += len(block)
                for h in hashes:
                    h.update(block)
    except OSError as error:
        return {"size": 0, "problem": {"code": "unreadable", "message": error.strerror}}
    for h, t in zip(hashes, tasks):
        h.update(base64.b64decode(t.get("after", "")))
    return {"size": size, "results": [{"digest": h.digest().hex()} for h in hashes]}


batch = ask("POST", "/batches", {"measurer": {"kind": "client", "host": socket.gethostname(), "path": os.path.abspath(folder), "software": "measurer.py 1"}})
where = f"/batches/{batch['id']}"
ask("PUT", where + "/listing/1", {"files": list(listing())})
ask("POST", where + "/listing", {"pages": 1})
while ask("GET", where)["state"] == "waiting":
    time.sleep(0.05)
cursor = ""
while True:
    page = ask("GET", where + "/chores" + cursor)
    if page["items"]:
        ask("POST", where + "/measurements", {"measured": [{"n": c["n"], "reading": measure(c["target"])} for c in page["items"]]})
    if not page.get("next"):
        break
    cursor = "?cursor=" + page["next"]
while (batch := ask("GET", where))["state"] == "measuring":
    time.sleep(0.05)
print(batch["id"], batch["verdict"])
