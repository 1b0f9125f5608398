import { Box, Flex, Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState, type ClipboardEvent, type DragEvent, type ReactNode } from "react";
import { key, Problem, type File as Stored } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Main } from "../../ui";
import { bytesText } from "./crop";

type Going = { id: string; name: string; bytes: number; sent: number; error?: string; file: File; stop?: () => void };

/** Uploads one file; it goes on where it was if the connection breaks. */
async function send(file: File, environment: string, o: { replace?: string; progress: (sent: number) => void; stopper: (stop: () => void) => void }): Promise<Stored> {
  const tus = await import("tus-js-client");
  return new Promise((done, failed) => {
    let body = "";
    const upload = new tus.Upload(file, {
      endpoint: `/control/v1/environments/${environment}/uploads/`,
      metadata: { filename: file.name, ...(o.replace && { replace: o.replace }) },
      chunkSize: 8 << 20,
      retryDelays: [0, 500, 1000, 2000, 4000, 8000],
      removeFingerprintOnSuccess: true,
      onProgress: o.progress,
      onAfterResponse: (_request, answer) => {
        body = answer.getBody() || body;
      },
      onError: (error) => {
        const answer = "originalResponse" in error ? error.originalResponse : null;
        let said: { title?: string; detail?: string; hint?: string } = {};
        try {
          said = JSON.parse(answer?.getBody() ?? "{}") as typeof said;
        } catch {
          // It is no problem document; its words are told as they are.
        }
        failed(new Problem(answer?.getStatus() ?? 0, said.title ?? "Failed", said.detail ?? (answer?.getBody() || "The service does not answer."), said.hint));
      },
      onSuccess: () => done(JSON.parse(body) as Stored),
    });
    o.stopper(() => void upload.abort(true));
    void upload.findPreviousUploads().then((before) => {
      if (before[0] && !o.replace) upload.resumeFromPreviousUpload(before[0]);
      upload.start();
    });
  });
}

/** What is being uploaded, two at a time, and how to add to it. */
export function useUploads(o: { replace?: string; uploaded: (f: Stored) => void }) {
  const who = useWho();
  const queries = useQueryClient();
  const [going, setGoing] = useState<Going[]>([]);
  const turns = useRef({ running: 0, waiting: [] as (() => void)[] });
  const change = (id: string, to: Partial<Going>) => setGoing((all) => all.map((g) => (g.id === id ? { ...g, ...to } : g)));
  const drop = (id: string) => setGoing((all) => all.filter((g) => g.id !== id));
  async function start(file: File, id: string = crypto.randomUUID()) {
    setGoing((all) => [...all.filter((g) => g.id !== id), { id, name: file.name, bytes: file.size, sent: 0, file }]);
    if (turns.current.running >= 2) await new Promise<void>((resume) => turns.current.waiting.push(resume));
    turns.current.running++;
    try {
      const f = await send(file, who.environment, { replace: o.replace, progress: (sent) => change(id, { sent }), stopper: (stop) => change(id, { stop }) });
      drop(id);
      o.uploaded(f);
    } catch (error) {
      change(id, { error: error instanceof Problem ? [error.message, error.hint].filter(Boolean).join(" — ") : String(error) });
    } finally {
      turns.current.running--;
      turns.current.waiting.shift()?.();
      void queries.invalidateQueries({ queryKey: key("files") });
    }
  }
  return {
    going,
    add: (files: Iterable<File>) => [...files].forEach((f) => void start(f)),
    again: (g: Going) => void start(g.file, g.id),
    drop: (g: Going) => {
      g.stop?.();
      drop(g.id);
    },
  };
}

/** How far uploads are. */
export function Progress({ of }: { of: ReturnType<typeof useUploads> }) {
  // Leaving while something is sent asks first.
  const busy = of.going.some((g) => !g.error);
  useEffect(() => {
    if (!busy) return;
    const ask = (e: BeforeUnloadEvent) => e.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [busy]);
  return (
    <Box aria-live="polite">
      {of.going.map((g) => (
        <Flex key={g.id} gap="3" align="center" mb="2" data-upload={g.error ? "failed" : "going"} wrap="wrap">
          <Text minW="160px">{g.name}</Text>
          {g.error ? (
            <>
              <Text color="failure" role="alert" flex="1">
                ✕ {g.error}
              </Text>
              <Act onClick={() => of.again(g)}>Try again</Act>
            </>
          ) : (
            <>
              <progress value={g.sent} max={Math.max(g.bytes, 1)} aria-label={"Upload of " + g.name} style={{ accentColor: "var(--chakra-colors-accent)" }} />
              <Text color="faint">
                {bytesText(g.sent)} of {bytesText(g.bytes)}
              </Text>
            </>
          )}
          <Act aria-label={(g.error ? "Dismiss " : "Stop ") + g.name} onClick={() => of.drop(g)}>
            {g.error ? "Dismiss" : "Stop"}
          </Act>
        </Flex>
      ))}
    </Box>
  );
}

/** A place that takes files: dragged onto it, pasted into it or chosen. */
export function DropZone({ take, several, accept, label, children }: { take: (files: File[]) => void; several?: boolean; accept?: string; label: string; children?: ReactNode }) {
  const [over, setOver] = useState(false);
  const input = useRef<HTMLInputElement>(null);
  const taken = (list: FileList | null | undefined) => list && list.length > 0 && take(several ? [...list] : [list[0]!]);
  return (
    <Box
      borderWidth="1px"
      borderStyle="dashed"
      borderColor={over ? "accent" : "control"}
      bg={over ? "color-mix(in srgb, var(--chakra-colors-accent) 8%, transparent)" : undefined}
      p="3"
      mb="3"
      data-drop
      onDragOver={(e: DragEvent) => {
        e.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(e: DragEvent) => {
        e.preventDefault();
        setOver(false);
        taken(e.dataTransfer.files);
      }}
      onPaste={(e: ClipboardEvent) => taken(e.clipboardData.files)}
    >
      <Flex gap="3" align="center" wrap="wrap">
        <Main onClick={() => input.current?.click()}>{label}</Main>
        <Text color="faint">or drop {several ? "files" : "a file"} here, or paste {several ? "them" : "it"}</Text>
        {children}
      </Flex>
      <input
        ref={input}
        type="file"
        hidden
        multiple={several}
        accept={accept}
        aria-label={label}
        onChange={(e) => {
          taken(e.target.files);
          e.target.value = "";
        }}
      />
    </Box>
  );
}
