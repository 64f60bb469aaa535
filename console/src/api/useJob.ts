import { useEffect, useState } from "react";
import type { Job } from "./client";
import { withKey } from "./key";

/** A job as it was last told, and the milliseconds that it had been at work by then. */
export type FollowedJob = Job & { passed?: number };

/** Follows a job by its server-sent events until it has ended; null before the first. */
export function useJob(id: string | undefined): FollowedJob | null {
  const [job, setJob] = useState<FollowedJob | null>(null);
  useEffect(() => {
    if (!id) return;
    const events = new EventSource(withKey(`/api/v1/jobs/${id}/events`));
    events.addEventListener("job", (event) => {
      const now = JSON.parse(event.data) as Job;
      setJob({ ...now, passed: Date.now() - new Date(now.created_at).getTime() });
      if (now.ended_at) events.close();
    });
    return () => events.close();
  }, [id]);
  return job?.id === id ? job : null;
}
