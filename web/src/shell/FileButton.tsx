import Button from "@mui/material/Button";
import { useRef } from "react";

interface Props { label: string; name?: string; accept: string; many?: boolean; pending?: boolean; chosen: (files: File[]) => void }

/** A button that asks for files. */
export function FileButton({ label, name = label, accept, many = false, pending = false, chosen }: Props) {
  const input = useRef<HTMLInputElement>(null);
  return (
    <>
      <input
        ref={input} type="file" accept={accept} multiple={many} hidden aria-label={name}
        onChange={(event) => {
          const files = [...(event.target.files ?? [])];
          if (files.length) chosen(files);
          event.target.value = "";
        }}
      />
      <Button variant="outlined" onClick={() => input.current?.click()} loading={pending}>{label}</Button>
    </>
  );
}
