import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";

import { site } from "../api/queries";

/** The site's clock in ms, which in a demo runs faster than ours; ticks every `everyMs` of real time. */
export function useSiteNow(everyMs = 1000): number {
  const { data, dataUpdatedAt } = useQuery(site);
  const [ours, tick] = useState(() => Date.now());
  useEffect(() => {
    const timer = window.setInterval(() => tick(Date.now()), everyMs);
    return () => window.clearInterval(timer);
  }, [everyMs]);
  return data ? Date.parse(data.now) + Math.max(0, ours - dataUpdatedAt) * data.rate : ours;
}
