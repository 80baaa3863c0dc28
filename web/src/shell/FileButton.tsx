import { useRef } from "react";

import type { Right } from "../api/client";
import { Act } from "../ui/Act";

interface Props {
  label: string;
  takes?: Right;
  name?: string;
  accept: string;
  many?: boolean;
  pending?: boolean;
  chosen: (files: File[]) => void;
}

/** A button that asks for files. */
export function FileButton({
  label,
  takes,
  name = label,
  accept,
  many = false,
  pending = false,
  chosen,
}: Props) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <input
        ref={input}
        type="file"
        accept={accept}
        multiple={many}
        hidden
        aria-label={name}
        onChange={(event) => {
          const files = [...(event.target.files ?? [])];
          if (files.length) chosen(files);
          event.target.value = "";
        }}
      />
      <Act takes={takes} variant="outlined" onClick={() => input.current?.click()} loading={pending}>
        {label}
      </Act>
    </>
  );
}
