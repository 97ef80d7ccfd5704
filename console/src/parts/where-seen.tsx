import { Box } from "@chakra-ui/react";
import { type ReactNode, useEffect, useRef, useState } from "react";

/** Draws what is in it when somebody is about to see it, and keeps it from then on. */
export function WhereSeen({ children }: { children: ReactNode }) {
  const [seen, setSeen] = useState(false);
  const box = useRef<HTMLDivElement>(null);
  useEffect(() => {
    if (seen || !box.current) return;
    const watch = new IntersectionObserver((e) => e.some((x) => x.isIntersecting) && setSeen(true), {
      rootMargin: "200px",
    });
    watch.observe(box.current);
    return () => watch.disconnect();
  }, [seen]);
  return seen ? children : <Box ref={box} minH="60px" />;
}
