import { useCallback, useRef } from "react";

/** Keeps what a preview saw a track name, so that the act moves the track from there and from nowhere else. */
export function useLeaves() {
  const leaves = useRef<string | undefined>(undefined);
  const seen = useCallback((number: string) => {
    leaves.current = number;
  }, []);
  return [leaves, seen] as const;
}
