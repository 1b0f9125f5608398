import { Flex, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { edit, ownTypes } from "../../api";
import { useWho } from "../../lib/who";
import { useActions, useSaveKey } from "../../lib/actions";
import { useDraft } from "../../lib/draft";
import { Unsaved } from "../../lib/unsaved";
import { useModel } from "../../lib/use-model";
import { Act, Failure, Loaded, Main, Page, SameByCommand } from "../../ui";
import { EntryForm, LocalePair } from "./entry-form";
import { pruned } from "./pruned";
import { SaveBar } from "./save-bar";

/** A new entry, which gets its page once it is saved. */
export function NewEntryPage() {
  const [params, setParams] = useSearchParams();
  const type = params.get("type") ?? "";
  const model = useModel({ staleTime: 60_000 });
  const navigate = useNavigate();
  const who = useWho();
  const [draft, setDraft] = useDraft(who.name, "new " + type);
  const fields = draft?.fields ?? {};
  const [broken, setBroken] = useState<string[]>([]);
  const [saved, setSaved] = useState("");
  const first = model.data?.locales.find((l) => !l.retired)?.tag ?? "en";
  const [pair, setPair] = useState<[string, string] | null>(null);
  const [source, target] = pair ?? [first, ""];
  const save = useMutation({
    mutationFn: () => edit({ type, save: pruned(fields) }),
    onSuccess: (out) => {
      setDraft(null);
      setSaved(out.entries[0]!.id);
    },
  });
  useEffect(() => {
    if (saved) void navigate("/entries/" + saved, { replace: true });
  }, [saved, navigate]);
  const t = model.data?.types.find((t) => t.name === type);
  const run = t && broken.length === 0 && !save.isPending ? () => save.mutate() : null;
  useSaveKey(run);
  useActions(run ? [{ name: "Save draft", run, keys: "Ctrl S" }] : []);
  return (
    <Page title={"New " + (t?.label ?? "entry")}>
      <Loaded query={model}>
        {(m) =>
          t ? (
            <>
              <Failure error={save.error} />
              <LocalePair model={m} source={source} target={target} onChange={(s, t) => setPair([s, t])} />
              <EntryForm model={m} typeName={type} value={fields} set={(fields) => setDraft({ fields, began: 0 })} source={source} target={target} problem={save.error} broken={setBroken} />
              <Unsaved unsaved={draft !== null} what="the new entry" drop={() => setDraft(null)} />
              <SaveBar broken={broken}>
                <Text color="faint" fontSize="13px" flex="1">
                  {draft ? "Not saved yet; what you typed survives a reload of this tab." : "Nothing typed yet."}
                </Text>
                <Main loading={save.isPending} disabled={broken.length > 0} onClick={() => save.mutate()}>
                  Save draft
                </Main>
              </SaveBar>
            </>
          ) : (
            <Flex gap="2" wrap="wrap">
              {ownTypes(m).map((t) => (
                <Act key={t.name} onClick={() => setParams({ type: t.name })}>
                  {t.label}
                </Act>
              ))}
            </Flex>
          )
        }
      </Loaded>
      <SameByCommand command={`ubiquon entry create ${type || "TYPE"}`} />
    </Page>
  );
}
