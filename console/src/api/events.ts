/** Reads a stream of server-sent events, and has each told by its name. */
export async function readEvents(stream: ReadableStream<Uint8Array>, tell: (event: string, data: string) => void) {
  const reader = stream.getReader();
  const decoder = new TextDecoder();
  let text = "";
  let event = "";
  for (;;) {
    const { done, value } = await reader.read();
    text += decoder.decode(value, { stream: !done });
    const lines = text.split("\n");
    text = done ? "" : (lines.pop() ?? "");
    for (const line of lines.map((l) => l.replace(/\r$/, ""))) {
      const [field, rest] = cut(line);
      if (field === "event") event = rest;
      if (field === "data") tell(event, rest);
      if (line === "") event = "";
    }
    if (done) return;
  }
}

function cut(line: string): [string, string] {
  const at = line.indexOf(":");
  return at < 0 ? [line, ""] : [line.slice(0, at), line.slice(at + 1).replace(/^ /, "")];
}
