import { tellRefused, useRefused } from "../api/refused";
import { Notice } from "../ui/Notice";

/** A command that was refused and whose place has no room to say so; it stays until somebody has seen it. */
export function RefusedLine() {
  const message = useRefused();
  if (!message) return null;
  return (
    <Notice title="Not done" onSeen={() => tellRefused("")}>
      {message}
    </Notice>
  );
}
