import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { useRef, type KeyboardEvent, type PointerEvent } from "react";
import { inputStyle } from "../../ui";
import { crop, type Focus, within } from "./crop";

const whole: Focus = { x: 0.35, y: 0.35, width: 0.3, height: 0.3 };
const names = [
  ["x", "Left"],
  ["y", "Top"],
  ["width", "Width"],
  ["height", "Height"],
] as const;

type Seen = { src: string; width: number; height: number; alt: string };

/**
 * Sets what a picture is about: a rectangle that is dragged on it, moved with the arrow keys and
 * made larger or smaller with Shift and the arrow keys, or written in percent.
 */
export function FocalEditor({ picture, focus, set, readOnly = false }: { picture: Seen; focus?: Focus; set: (f: Focus | undefined) => void; readOnly?: boolean }) {
  const frame = useRef<HTMLDivElement>(null);
  const from = useRef<{ x: number; y: number; focus: Focus; how: "move" | "size" | "draw" } | null>(null);
  const f = focus ?? whole;
  const at = (e: PointerEvent) => {
    const box = frame.current!.getBoundingClientRect();
    return { x: (e.clientX - box.left) / box.width, y: (e.clientY - box.top) / box.height };
  };
  function begin(e: PointerEvent, how: "move" | "size" | "draw") {
    if (readOnly) return;
    e.preventDefault();
    e.stopPropagation();
    frame.current!.setPointerCapture(e.pointerId);
    from.current = { ...at(e), focus: f, how };
  }
  function move(e: PointerEvent) {
    const begun = from.current;
    if (!begun) return;
    const now = at(e);
    const dx = now.x - begun.x;
    const dy = now.y - begun.y;
    if (begun.how === "move") set(within({ ...begun.focus, x: begun.focus.x + dx, y: begun.focus.y + dy }));
    else if (begun.how === "size") set(within({ ...begun.focus, width: begun.focus.width + dx, height: begun.focus.height + dy }));
    else if (Math.abs(dx) > 0.01 || Math.abs(dy) > 0.01) set(within({ x: Math.min(begun.x, now.x), y: Math.min(begun.y, now.y), width: Math.abs(dx), height: Math.abs(dy) }));
  }
  function press(e: KeyboardEvent) {
    const step = e.altKey ? 0.05 : 0.01;
    const by = { ArrowLeft: [-step, 0], ArrowRight: [step, 0], ArrowUp: [0, -step], ArrowDown: [0, step] }[e.key];
    if (!by || readOnly) return;
    e.preventDefault();
    set(within(e.shiftKey ? { ...f, width: f.width + by[0]!, height: f.height + by[1]! } : { ...f, x: f.x + by[0]!, y: f.y + by[1]! }));
  }
  const percent = (n: number) => `${n * 100}%`;
  return (
    <Box data-focal>
      <Box ref={frame} position="relative" maxW="560px" userSelect="none" touchAction="none" onPointerDown={(e) => begin(e, "draw")} onPointerMove={move} onPointerUp={() => (from.current = null)} onPointerCancel={() => (from.current = null)} cursor={readOnly ? undefined : "crosshair"}>
        <img src={picture.src} alt={picture.alt} draggable={false} style={{ display: "block", width: "100%", aspectRatio: `${picture.width} / ${picture.height}` }} />
        <Box
          position="absolute"
          left={percent(f.x)}
          top={percent(f.y)}
          width={percent(f.width)}
          height={percent(f.height)}
          border="2px solid #fff"
          outline="2px solid #12343f"
          opacity={focus ? 1 : 0.55}
          cursor={readOnly ? undefined : "move"}
          tabIndex={readOnly ? undefined : 0}
          role="group"
          aria-label="Focal region: arrow keys move it, with Shift they size it"
          _focusVisible={{ outline: "3px solid var(--chakra-colors-accent)" }}
          onPointerDown={(e) => begin(e, "move")}
          onKeyDown={press}
          data-region
        >
          {!readOnly && <Box position="absolute" right="-7px" bottom="-7px" w="14px" h="14px" bg="#fff" border="2px solid #12343f" cursor="nwse-resize" onPointerDown={(e) => begin(e, "size")} data-corner />}
        </Box>
      </Box>
      <Flex gap="2" mt="2" wrap="wrap" align="end">
        {names.map(([name, title]) => (
          <Box key={name}>
            <Text as="label" display="block" fontSize="12px" color="faint">
              {title} in %
              <Input
                {...inputStyle}
                w="86px"
                display="block"
                type="number"
                min={0}
                max={100}
                step="0.1"
                readOnly={readOnly}
                placeholder="–"
                value={focus ? Math.round(focus[name] * 1000) / 10 : ""}
                onChange={(e) => set(e.target.value === "" ? undefined : within({ ...f, [name]: Number(e.target.value) / 100 }))}
              />
            </Text>
          </Box>
        ))}
      </Flex>
    </Box>
  );
}

/** How a picture looks in proportions, cut around its focus. */
export function Crops({ picture, focus, of }: { picture: Seen; focus?: Focus; of: { name: string; width: number; height: number }[] }) {
  return (
    <Flex gap="3" wrap="wrap" align="end">
      {of.map((one) => {
        const box = crop(picture.width, picture.height, one.width, one.height, focus);
        const scale = Math.min(150 / one.width, 110 / one.height);
        const shown = { width: one.width * scale, height: one.height * scale };
        const factor = shown.width / box.width;
        return (
          <Box key={one.name} as="figure" m="0" data-crop={one.name} data-box={`${box.x},${box.y},${box.width},${box.height}`}>
            <Box
              role="img"
              aria-label={`Crop ${one.name}`}
              width={shown.width + "px"}
              height={shown.height + "px"}
              borderWidth="1px"
              borderColor="line"
              style={{ backgroundImage: `url("${picture.src}")`, backgroundSize: `${picture.width * factor}px ${picture.height * factor}px`, backgroundPosition: `${-box.x * factor}px ${-box.y * factor}px` }}
            />
            <Text as="figcaption" fontSize="12px" color="faint">
              {one.name}
            </Text>
          </Box>
        );
      })}
    </Flex>
  );
}

/** The crops that are shown where nobody has named any. */
export const usualCrops = [
  { name: "16 : 9", width: 16, height: 9 },
  { name: "3 : 2", width: 3, height: 2 },
  { name: "1 : 1", width: 1, height: 1 },
  { name: "3 : 4", width: 3, height: 4 },
];
