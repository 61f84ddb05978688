import { FolderOpen, Upload } from "lucide-react";
import { type DragEvent, useId, useState } from "react";

import type { Given } from "../spot/protocol";

/** A place to drop files or a folder on, and to choose them by hand. */
export function DropArea({ take, children }: { take: (given: Given[]) => void; children?: React.ReactNode }) {
  const [over, setOver] = useState(false);
  const files = useId();
  const folder = useId();
  // How files are taken out of a drop is loaded with the first one.
  const chosen = (list: FileList | null) => {
    const files = [...(list ?? [])]; // the list is emptied with the field
    if (files.length > 0)
      void import("../spot/check").then((c) => {
        take(c.chosen(files));
      });
  };
  const drop = (event: DragEvent) => {
    event.preventDefault();
    setOver(false);
    // What was dropped is there only while this runs: it is taken hold of first.
    const entries = [...event.dataTransfer.items].map((item) => item.webkitGetAsEntry()).filter((entry) => entry !== null);
    void import("../spot/check").then(async (c) => {
      take(await c.filesOf(entries));
    });
  };
  return (
    <div
      className={`flex flex-col items-center gap-2 rounded-box border-2 border-dashed p-5 text-center ${over ? "border-primary bg-base-200" : "border-base-300"}`}
      data-drop
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => {
        setOver(false);
      }}
      onDrop={drop}
    >
      <p className="font-semibold">Drop files or a folder here</p>
      {children}
      <div className="flex flex-wrap justify-center gap-2">
        <label htmlFor={files} className="btn btn-sm">
          <Upload size={16} aria-hidden /> Choose files
        </label>
        <input
          id={files}
          type="file"
          multiple
          className="sr-only"
          onChange={(e) => {
            chosen(e.target.files);
            e.target.value = "";
          }}
        />
        <label htmlFor={folder} className="btn btn-sm">
          <FolderOpen size={16} aria-hidden /> Choose a folder
        </label>
        <input
          id={folder}
          type="file"
          className="sr-only"
          ref={(input) => {
            input?.setAttribute("webkitdirectory", "");
          }}
          onChange={(e) => {
            chosen(e.target.files);
            e.target.value = "";
          }}
        />
      </div>
    </div>
  );
}
