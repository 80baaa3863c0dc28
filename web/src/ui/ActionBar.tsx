import type { ReactNode } from "react";

import { Row } from "./layout";

/** What can be done here, beside one another; the first is what is usually done. They go on in the next line. */
export function ActionBar({ children, label, end }: { children: ReactNode; label?: string; end?: boolean }) {
  return (
    <Row gap={1} wrap align="center" role={label && "group"} aria-label={label} ml={end ? "auto" : undefined}>
      {children}
    </Row>
  );
}
