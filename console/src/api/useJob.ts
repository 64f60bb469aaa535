import { useEffect, useState } from "react";
import type { Job } from "./client";

/** Follows a job by its server-sent events until it has ended; null before the first. */
export function useJob(id: string | undefined): Job | null {
  const [job, setJob] = useState<Job | null>(null);
  useEffect(() => {
    if (!id) return;
    const events = new EventSource(`/api/v1/jobs/${id}/events`);
    events.addEventListener("job", (event) => {
      const now = JSON.parse(event.data) as Job;
      setJob(now);
      if (now.ended_at) events.close();
    });
    return () => events.close();
  }, [id]);
  return job?.id === id ? job : null;
}
