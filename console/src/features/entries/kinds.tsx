import { Flex, Input, Text, Textarea } from "@chakra-ui/react";
import { lazy, Suspense, useContext, useEffect, useState } from "react";
import { localIn, momentOf, ownZone, zones } from "../../lib/zone";
import { inputStyle, Pick } from "../../ui";
import { Form, type Control } from "./form-context";

const SourceEditor = lazy(() => import("../../code/source"));

const parts = [
  ["amount", "Minor units", true],
  ["currency", "Currency", false],
] as const;

/** A sum of money. */
export function Money({ value, set, label }: Control) {
  const { readOnly } = useContext(Form);
  const v = (value ?? {}) as Record<string, unknown>;
  return (
    <Flex gap="2" wrap="wrap" align="center">
      {parts.map(([name, title, isNumber]) => (
        <Input
          key={name}
          {...inputStyle}
          flex="0 1 96px"
          readOnly={readOnly}
          placeholder={title}
          aria-label={label + ": " + title}
          type={isNumber ? "number" : "text"}
          value={v[name] === undefined || v[name] === null ? "" : String(v[name])}
          onChange={(e) => {
            const next: Record<string, unknown> = { ...v, [name]: e.target.value === "" ? undefined : isNumber ? Number(e.target.value) : e.target.value };
            set(Object.values(next).every((x) => x === undefined) ? undefined : next);
          }}
        />
      ))}
    </Flex>
  );
}

export function Location({ value, set, label }: Control) {
  const { readOnly } = useContext(Form);
  const at = (value as { coordinates?: number[] } | undefined)?.coordinates ?? [];
  const put = (i: number, text: string) => {
    const next: (number | undefined)[] = [at[0], at[1]];
    next[i] = text === "" ? undefined : Number(text);
    set(next.every((n) => n === undefined) ? undefined : { type: "Point", coordinates: next.map((n) => n ?? 0) });
  };
  return (
    <Flex gap="2">
      {["Longitude", "Latitude"].map((name, i) => (
        <Input key={name} {...inputStyle} w="140px" type="number" step="any" readOnly={readOnly} placeholder={name} aria-label={label + ": " + name} value={at[i] ?? ""} onChange={(e) => put(i, e.target.value)} />
      ))}
    </Flex>
  );
}

/** A value in JSON. What is typed and cannot be read is not taken for the value, and keeps it from being saved. */
export function JSONText({ value, set, label }: Control) {
  const { readOnly, unreadable } = useContext(Form);
  const written = value === undefined ? "" : JSON.stringify(value, null, 2);
  const [text, setText] = useState(written);
  const [taken, setTaken] = useState(written);
  const [bad, setBad] = useState("");
  if (written !== taken) {
    // The value has changed by itself: what was saved has been put back.
    setTaken(written);
    setText(written);
    setBad("");
  }
  useEffect(() => {
    unreadable(label, bad !== "");
    return () => unreadable(label, false);
  }, [unreadable, label, bad]);
  function take(typed: string) {
    setText(typed);
    try {
      const next = typed.trim() === "" ? undefined : (JSON.parse(typed) as unknown);
      setTaken(next === undefined ? "" : JSON.stringify(next, null, 2));
      setBad("");
      set(next);
    } catch (error) {
      setBad(error instanceof Error ? error.message : String(error));
    }
  }
  return (
    <>
      <Suspense fallback={<Textarea {...inputStyle} rows={5} readOnly value={text} aria-label={label} />}>
        <SourceEditor label={label} kind="json" value={text} onChange={readOnly ? undefined : take} />
      </Suspense>
      {bad && (
        <Text color="failure" role="alert">
          ✕ {bad}
        </Text>
      )}
    </>
  );
}

/** A moment, written as a time of day in a zone and kept in UTC, to the second. */
export function Moment({ value, set, label }: Control) {
  const { readOnly } = useContext(Form);
  const [zone, setZone] = useState(ownZone);
  const [gap, setGap] = useState("");
  return (
    <>
      <Flex gap="2" wrap="wrap">
        <Input
          {...inputStyle}
          w="220px"
          type="datetime-local"
          step="1"
          readOnly={readOnly}
          aria-label={label}
          value={gap || (value ? localIn(zone, new Date(String(value))) : "")}
          onChange={(e) => {
            const local = e.target.value;
            const moment = local === "" ? undefined : momentOf(local, zone);
            setGap(moment === null ? local : "");
            if (moment !== null) set(moment);
          }}
        />
        <Pick label={label + ": time zone"} value={zone} onChange={setZone} w="180px">
          {zones.map((z) => (
            <option key={z}>{z}</option>
          ))}
        </Pick>
      </Flex>
      {gap && (
        <Text color="failure" role="alert">
          ✕ There is no {gap.replace("T", " ")} in {zone}: clocks are put forward over it.
        </Text>
      )}
    </>
  );
}
