import { useQuery } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";

import { site } from "../api/queries";

/** The site's clock in ms, which in a demo runs faster than ours; ticks every `everyMs` of real time. */
export function useSiteNow(everyMs = 1000): number {
  const { data } = useQuery(site);
  const anchor = useRef({ real: Date.now(), clock: Date.now(), rate: 1 });
  const [, tick] = useState(0);
  useEffect(() => {
    if (data) anchor.current = { real: Date.now(), clock: Date.parse(data.now), rate: data.rate };
  }, [data]);
  useEffect(() => {
    const timer = window.setInterval(() => tick((n) => n + 1), everyMs);
    return () => window.clearInterval(timer);
  }, [everyMs]);
  const { real, clock, rate } = anchor.current;
  return clock + (Date.now() - real) * rate;
}
