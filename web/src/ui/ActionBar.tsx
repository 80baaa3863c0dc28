import type { ReactNode } from "react";

import { Row } from "./layout";

/** What can be done here, beside one another; the first is what is usually done. They go on in the next line. */
export function ActionBar({ children }: { children: ReactNode }) {
  return (
    <Row gap={1} wrap align="center">
      {children}
    </Row>
  );
}
