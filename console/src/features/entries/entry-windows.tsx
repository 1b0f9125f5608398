import { Box, Flex, Input, Text, Textarea } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, edit, type Entry, key, type Locale, type Model, Problem, refreshAll, type Schedule } from "../../api";
import { localIn, ownZone, zones } from "../../lib/zone";
import { Act, Failure, Main, Pick, State, Tick, Window } from "../../ui";

/** Publishes or unpublishes entries: now or at a moment, in all locales or some. */
export function PublishWindow({ entries, action, model, close, done }: { entries: Entry[]; action: "publish" | "unpublish"; model: Model; close: () => void; done: (said: string) => void }) {
  const queries = useQueryClient();
  const active = model.locales.filter((l) => !l.retired);
  const written = (l: Locale) => entries.some((e) => (action === "publish" ? ["translated", "partly"].includes(e.locales[l.tag] ?? "") : e.live?.includes(l.tag)));
  const choosable = active.filter(written);
  const [chosen, setChosen] = useState<string[]>(choosable.map((l) => l.tag));
  const [later, setLater] = useState(false);
  const [at, setAt] = useState("");
  const [zone, setZone] = useState(ownZone);
  const [along, setAlong] = useState<string[]>([]);
  const linked = useQuery({
    queryKey: key("linked-drafts", entries.map((e) => e.id)),
    enabled: action === "publish",
    queryFn: ({ signal }) => call<{ items: Entry[] }>("/linked-drafts?ids=" + entries.map((e) => e.id).join(","), { signal }),
  });
  const locales = chosen.length === choosable.length ? undefined : chosen;
  const run = useMutation({
    mutationFn: async () => {
      if (later) {
        const { items } = await call<{ items: Schedule[] }>("/schedules/several", { method: "POST", body: { entries: [...entries.map((e) => e.id), ...along], action, at, zone, locales } });
        return `${action} of ${items.length === 1 ? "one entry" : items.length + " entries"} scheduled for ${at.replace("T", " ")} (${zone})`;
      }
      const out = await edit(...entries.map((e) => ({ id: e.id, do: action, locales })), ...along.map((id) => ({ id, do: action })));
      return out.sequence ? `${action}ed as sequence ${out.sequence}` : "No reader sees a difference.";
    },
    onSuccess: (said) => {
      done(said);
      close();
    },
    onSettled: () => refreshAll(queries),
  });
  const what = action === "publish" ? "Publish" : "Unpublish";
  return (
    <Window
      title={entries.length === 1 ? `${what} “${entries[0]?.title}”` : `${what} ${entries.length} entries, all or none`}
      open
      close={close}
      actions={
        <Main loading={run.isPending} disabled={(choosable.length > 0 && chosen.length === 0) || (later && !at)} onClick={() => run.mutate()}>
          {later ? "Schedule" : what}
        </Main>
      }
    >
      {choosable.length > 0 && (
        <Box mb="4">
          <Text color="faint" mb="1">
            Locales. The others stay as readers have them.
          </Text>
          <Flex gap="4" wrap="wrap">
            {choosable.map((l) => (
              <Tick key={l.tag} checked={chosen.includes(l.tag)} onChange={(yes) => setChosen(yes ? [...chosen, l.tag] : chosen.filter((t) => t !== l.tag))}>
                {l.name || l.tag}
              </Tick>
            ))}
          </Flex>
        </Box>
      )}
      {!!linked.data?.items.length && (
        <Box mb="4">
          <Text color="faint" mb="1">
            Drafts that {entries.length === 1 ? "it refers" : "they refer"} to. Readers do not see what is not published.
          </Text>
          {linked.data.items.map((e) => (
            <Box key={e.id}>
              <Tick checked={along.includes(e.id)} onChange={(yes) => setAlong(yes ? [...along, e.id] : along.filter((id) => id !== e.id))}>
                {e.title || e.id} <Text color="faint">{e.type}</Text> <State of={e.state} />
              </Tick>
            </Box>
          ))}
        </Box>
      )}
      <Flex gap="4" mb="2" align="center" wrap="wrap">
        <Tick checked={later} onChange={setLater}>
          At a moment
        </Tick>
        {later && (
          <>
            <Input size="sm" w="210px" type="datetime-local" step="1" aria-label="Moment" value={at} onChange={(e) => setAt(e.target.value)} />
            <Pick label="Time zone" value={zone} onChange={setZone} w="170px">
              {zones.map((z) => (
                <option key={z}>{z}</option>
              ))}
            </Pick>
          </>
        )}
      </Flex>
      <Failure error={run.error} />
    </Window>
  );
}

/** Says something of what is in review, or submits it. */
export function ReviewWindow({ id, action, close }: { id: string; action: "submit" | "approve" | "return"; close: () => void }) {
  const queries = useQueryClient();
  const [remark, setRemark] = useState("");
  const run = useMutation({ mutationFn: () => edit({ id, do: action, remark }), onSuccess: close, onSettled: () => refreshAll(queries) });
  const title = { submit: "Submit for review", approve: "Approve", return: "Send back" }[action];
  return (
    <Window
      title={title}
      open
      close={close}
      actions={
        <Main loading={run.isPending} onClick={() => run.mutate()}>
          {title}
        </Main>
      }
    >
      <Textarea autoFocus rows={4} placeholder={action === "return" ? "What should be done about it?" : "A remark, if there is something to say"} aria-label="Remark" value={remark} onChange={(e) => setRemark(e.target.value)} />
      <Failure error={run.error} />
    </Window>
  );
}

const takesAway = {
  delete: { what: "Delete", says: "All revisions, schedules and former paths go with it. That cannot be undone." },
  retire: { what: "Retire", says: "It is kept with all revisions and shown to nobody. Saving it brings it back." },
  discard: { what: "Discard the draft of", says: "What was saved since the last publish is no longer the newest state. Its revisions are kept under History, from where they can be restored." },
};

/** Retires, deletes or discards a draft, and names what refers to the entries before it does. */
export function TakeAwayWindow({ ids, titles, action, close, done }: { ids: string[]; titles: string; action: "retire" | "delete" | "discard"; close: () => void; done?: () => void }) {
  const queries = useQueryClient();
  const run = useMutation({
    mutationFn: (even: boolean) => edit(...ids.map((id) => ({ id, do: action, evenIfReferred: even }))),
    onSuccess: () => {
      close();
      done?.();
    },
    onSettled: () => refreshAll(queries),
  });
  const referred = run.error instanceof Problem && !!run.error.body.referredBy?.length;
  const { what, says } = takesAway[action];
  return (
    <Window
      title={`${what} ${titles}?`}
      open
      close={close}
      actions={
        <Main bg="failure" loading={run.isPending} onClick={() => run.mutate(referred)}>
          {referred ? `${what} even so` : action === "discard" ? "Discard" : what}
        </Main>
      }
    >
      <Text>{says}</Text>
      <Failure error={run.error} />
    </Window>
  );
}

/** A pending schedule, which can be moved or cancelled. */
export function PendingSchedule({ of: s }: { of: Schedule }) {
  const queries = useQueryClient();
  const [moving, setMoving] = useState(false);
  const [at, setAt] = useState("");
  const settled = { onSettled: () => refreshAll(queries) };
  const cancel = useMutation({ mutationFn: () => call("/schedules/" + s.id, { method: "DELETE" }), ...settled });
  const move = useMutation({ mutationFn: () => call("/schedules/" + s.id, { method: "PATCH", body: { at, zone: s.zone } }), onSuccess: () => setMoving(false), ...settled });
  const moment = localIn(s.zone, new Date(s.at)).replace("T", " ");
  return (
    <Box py="1" data-schedule={s.id}>
      <Flex gap="2" align="center" wrap="wrap">
        <State of={s.late ? "late" : s.state} />
        <span>
          {s.action} {s.locales?.join(" ") ?? ""} at {moment} <Text as="span" color="faint">{s.zone}</Text>
        </span>
        {s.state === "pending" && (
          <>
            <Act onClick={() => (setAt(localIn(s.zone, new Date(s.at))), setMoving(!moving))}>Move</Act>
            <Act loading={cancel.isPending} onClick={() => cancel.mutate()}>
              Cancel
            </Act>
          </>
        )}
      </Flex>
      {s.detail && <Text color={s.state === "failed" ? "failure" : "faint"}>{s.detail}</Text>}
      {moving && (
        <Flex gap="2" mt="1" align="center">
          <Input size="sm" w="210px" type="datetime-local" step="1" aria-label="New moment" value={at} onChange={(e) => setAt(e.target.value)} />
          <Act disabled={!at} loading={move.isPending} onClick={() => move.mutate()}>
            Move it
          </Act>
        </Flex>
      )}
      <Failure error={move.error ?? cancel.error} />
    </Box>
  );
}
