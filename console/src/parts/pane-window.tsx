import { Box, chakra } from "@chakra-ui/react";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { type KeyboardEvent, memo, useCallback, useEffect, useLayoutEffect, useRef, useState } from "react";
import type { Look, Pattern } from "../panes";

const hatch = "var(--chakra-colors-pane-hatch)";

const patterns: Record<Pattern, object> = {
  plain: {},
  slant: { backgroundImage: `repeating-linear-gradient(-45deg, ${hatch} 0 2px, transparent 2px 9px)` },
  level: { backgroundImage: `repeating-linear-gradient(0deg, ${hatch} 0 2px, transparent 2px 7px)` },
  hollow: { backgroundColor: "transparent!" },
  dashed: { borderStyle: "dashed!" },
  cross: {
    backgroundImage: `repeating-linear-gradient(45deg, ${hatch} 0 2px, transparent 2px 8px), repeating-linear-gradient(-45deg, ${hatch} 0 2px, transparent 2px 8px)`,
    borderWidth: "2px!",
  },
  dots: { backgroundImage: `radial-gradient(${hatch} 1.5px, transparent 1.6px)`, backgroundSize: "7px 7px" },
};

/** One host, as it is drawn. What is written on it is also what it is called; the hint adds the rest. */
export type PaneOf = { name: string; look: Look; line?: string; hint: string };

/** More than so many panes are drawn small. */
export const manyPanes = 300;

const sizes = {
  large: { width: 86, height: 50, gap: 4 },
  small: { width: 20, height: 20, gap: 3 },
} as const;

/** The frame. The looks of its panes are rules of its own, so that thousands of them cost no more than their elements. */
const Frame = chakra("div", {
  base: {
    p: "6px",
    bg: "bg.canvas",
    borderWidth: "3px",
    borderColor: "line",
    rounded: "sm",
    "& .row": { display: "flex", position: "absolute", left: 0, top: 0 },
    "& button": {
      flexShrink: 0,
      color: "pane.ink",
      borderWidth: "1px",
      borderColor: "fg.quiet",
      rounded: "2px",
      textAlign: "left",
      lineHeight: "1.15",
      cursor: "pointer",
      overflow: "hidden",
    },
    "& .large": { px: "1.5", py: "1" },
    "& .large span": {
      display: "block",
      fontSize: "11px",
      whiteSpace: "nowrap",
      overflow: "hidden",
      textOverflow: "ellipsis",
    },
    "& .large b": {
      display: "block",
      fontSize: "xs",
      fontWeight: "600",
      whiteSpace: "nowrap",
      overflow: "hidden",
      textOverflow: "ellipsis",
    },
    "& .serving": { backgroundColor: "pane.serving" },
    "& .drift": { backgroundColor: "pane.drift" },
    "& .moving": { backgroundColor: "pane.moving" },
    "& .working": { backgroundColor: "pane.working" },
    "& .broken": { backgroundColor: "pane.broken" },
    "& .still": { backgroundColor: "pane.still" },
    ...Object.fromEntries(Object.entries(patterns).map(([name, css]) => [`& .${name}`, css])),
  },
});

type PaneProps = {
  pane: PaneOf;
  small: boolean;
  index: number;
  reached: boolean; // by Tab; the others by the arrow keys
  onOpen: (name: string) => void;
};

const Pane = memo(function Pane({ pane, small, index, reached, onOpen }: PaneProps) {
  const size = small ? sizes.small : sizes.large;
  return (
    <button
      type="button"
      className={`${small ? "small" : "large"} ${pane.look.fill} ${pane.look.pattern}`}
      style={{ width: size.width, height: size.height, marginRight: size.gap }}
      title={pane.hint}
      aria-label={small ? pane.hint : undefined}
      data-index={index}
      tabIndex={reached ? 0 : -1}
      onClick={() => onOpen(pane.name)}
    >
      {!small && (
        <>
          <b>{pane.name}</b>
          <span>{pane.look.word}</span>
          <span>{pane.line}</span>
        </>
      )}
    </button>
  );
});

/**
 * Panes in a frame, a pane a host. Many are drawn small, and told apart by fill
 * and pattern, and by words where one points or has the focus. Only those are
 * drawn that one looks at. The arrow keys go from pane to pane.
 */
export function PaneWindow(props: { label: string; panes: PaneOf[]; onOpen: (name: string) => void }) {
  const { label, panes, onOpen } = props;
  const small = panes.length > manyPanes;
  const size = small ? sizes.small : sizes.large;
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(0);
  const [top, setTop] = useState(0);
  const [at, setAt] = useState(0);
  const moved = useRef(false); // by a key
  useEffect(() => {
    const element = box.current;
    if (!element) return;
    const measure = () => {
      setWidth(element.clientWidth);
      setTop(element.getBoundingClientRect().top + window.scrollY);
    };
    measure();
    const watch = new ResizeObserver(measure);
    watch.observe(element);
    // What comes and goes above moves it.
    watch.observe(document.body);
    return () => watch.disconnect();
  }, []);
  const columns = Math.max(1, Math.floor((width + size.gap) / (size.width + size.gap)));
  const rows = useWindowVirtualizer({
    count: width ? Math.ceil(panes.length / columns) : 0,
    estimateSize: () => size.height + size.gap,
    scrollMargin: top,
    overscan: 4,
  });
  const open = useRef(onOpen);
  open.current = onOpen;
  const onPane = useCallback((name: string) => open.current(name), []);
  const move = (e: KeyboardEvent) => {
    const by = { ArrowRight: 1, ArrowLeft: -1, ArrowDown: columns, ArrowUp: -columns }[e.key];
    const to =
      e.key === "Home" ? 0 : e.key === "End" ? panes.length - 1 : by === undefined ? undefined : at + by;
    if (to === undefined || to < 0 || to >= panes.length) return;
    e.preventDefault();
    moved.current = true;
    setAt(to);
    rows.scrollToIndex(Math.floor(to / columns));
  };
  // The focus goes along at once; where nothing was drawn yet, when it is.
  useLayoutEffect(() => {
    if (!moved.current) return;
    const focus = () => {
      const pane = box.current?.querySelector<HTMLElement>(`[data-index="${at}"]`);
      pane?.focus({ preventScroll: true });
      return !!pane;
    };
    if (!focus()) requestAnimationFrame(() => focus() || requestAnimationFrame(focus));
    moved.current = false;
  }, [at]);
  return (
    <Frame role="group" aria-label={label} onKeyDown={move}>
      <Box
        ref={box}
        position="relative"
        height={`${Math.max(size.height, rows.getTotalSize() - size.gap)}px`}
      >
        {rows.getVirtualItems().map((row) => (
          <div key={row.key} className="row" style={{ transform: `translateY(${row.start - top}px)` }}>
            {panes.slice(row.index * columns, (row.index + 1) * columns).map((pane, i) => {
              const index = row.index * columns + i;
              return (
                <Pane
                  key={pane.name}
                  pane={pane}
                  small={small}
                  index={index}
                  reached={index === Math.min(at, panes.length - 1)}
                  onOpen={onPane}
                />
              );
            })}
          </div>
        ))}
      </Box>
    </Frame>
  );
}
