import { Box, Flex, Heading, Text, Textarea } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, edit, key, refreshAll, type FileDetail, type Model } from "../../api";
import { Unsaved } from "../../lib/unsaved";
import { useModel } from "../../lib/use-model";
import { Act, CopyButton, EntryLink, Failure, Fields, Labelled, Loaded, Main, Mono, Page, Row, Rows, Cell, SameByCommand, State, TextField, TickField, toast, useFields, Window } from "../../ui";
import { bytesText, here, type Focus } from "./crop";
import { Crops, FocalEditor, usualCrops } from "./focal";
import { DropZone, Progress, useUploads } from "./uploads";

type Texts = Record<string, string>;
type Values = { name: string; alt: Texts; caption: Texts; credit: string; tags: string; decorative: boolean };

/** What has a text in some locale; nothing where none has. */
const given = (texts: Texts) => {
  const out = Object.fromEntries(Object.entries(texts).filter(([, v]) => v?.trim()));
  return Object.keys(out).length > 0 ? out : undefined;
};

/** The crops that fields name, which show pictures. */
function namedCrops(model: Model | undefined) {
  const out = (model?.types ?? []).flatMap((t) => t.fields.flatMap((f) => (f.renditions ?? []).filter((r) => r.width && r.height).map((r) => ({ name: `${t.name}.${f.name}: ${r.name}`, width: r.width!, height: r.height! }))));
  return out.length > 0 ? out : usualCrops;
}

export function FilePage() {
  const { id = "" } = useParams();
  const file = useQuery({ queryKey: key("file", id), queryFn: ({ signal }) => call<FileDetail>("/files/" + encodeURIComponent(id), { signal }) });
  return (
    <Loaded query={file}>
      {(f) => <Described key={f.revision} file={f} />}
    </Loaded>
  );
}

function Described({ file }: { file: FileDetail }) {
  const model = useModel({ staleTime: 60_000 });
  const queries = useQueryClient();
  const navigate = useNavigate();
  const d = file.description as { alt?: Texts; caption?: Texts; credit?: string; tags?: string[]; decorative?: boolean; focus?: Focus };
  const form = useFields<Values>({ name: file.name, alt: d.alt ?? {}, caption: d.caption ?? {}, credit: d.credit ?? "", tags: (d.tags ?? []).join(", "), decorative: !!d.decorative });
  const [focus, setFocus] = useState<Focus | undefined>(d.focus);
  const [deleting, setDeleting] = useState(false);
  const moved = JSON.stringify(focus) !== JSON.stringify(d.focus);
  const dirty = form.formState.isDirty || moved;
  const locales = model.data?.locales.filter((l) => !l.retired) ?? [];
  const picture = file.width && file.height ? { src: here(file.preview?.replace(/\/full\/[^/]+\//, "/full/640,/") ?? file.url), width: file.width, height: file.height, alt: "The picture itself" } : undefined;
  const shown = picture && { ...picture, src: file.width! > 640 ? picture.src : here(file.url) };

  async function save(v: Values, publish: boolean) {
    await edit({
      id: file.id,
      type: "file",
      do: publish ? "publish" : undefined,
      ifRevision: file.revision,
      save: {
        name: v.name,
        hash: file.hash,
        alt: given(v.alt),
        caption: given(v.caption),
        credit: v.credit || undefined,
        tags: v.tags.split(",").map((t) => t.trim()).filter(Boolean),
        decorative: v.decorative || undefined,
        focus,
      },
    });
    toast.done(publish ? "Saved and published" : "Saved as a draft");
    await refreshAll(queries);
  }
  const uploads = useUploads({
    replace: file.id,
    uploaded: () => {
      toast.done("It has the new bytes, as a draft");
      void refreshAll(queries);
    },
  });
  return (
    <Page
      title={file.name}
      says={
        <>
          <State of={file.published ? "published" : "draft"} /> {file.mediaType}, {bytesText(file.bytes)}
          {file.width ? `, ${file.width} × ${file.height}` : ""}
        </>
      }
      actions={
        <Act color="failure" onClick={() => setDeleting(true)}>
          Delete…
        </Act>
      }
    >
      <Unsaved
        unsaved={dirty}
        what="the description"
        drop={() => {
          form.reset();
          setFocus(d.focus);
        }}
      />
      <Flex gap="8" wrap="wrap" align="start">
        <Box flex="1 1 420px" minW="0">
          {shown && (
            <>
              <Heading as="h2" fontSize="15px" mb="2">
                Focal region
              </Heading>
              <FocalEditor picture={shown} focus={focus} set={setFocus} />
              <Flex gap="3" mt="1" mb="4" align="center">
                {focus && <Act onClick={() => setFocus(undefined)}>None</Act>}
                <Text color="faint" fontSize="13px">
                  No crop leaves it out. Drag it, or use the arrow keys.
                </Text>
              </Flex>
              <Crops picture={shown} focus={focus} of={namedCrops(model.data)} />
            </>
          )}
          <Heading as="h2" fontSize="15px" mt="6" mb="2">
            Addresses
          </Heading>
          {[
            ["The file", file.url],
            ["Pictures (IIIF)", file.image && file.image + "/full/640,/0/default.jpg"],
          ].map(
            ([name, address]) =>
              address && (
                <Flex key={name} gap="2" align="center" mb="1" minW="0" minH="28px">
                  <Text color="faint" minW="110px">
                    {name}
                  </Text>
                  <Mono truncate flex="0 1 auto" minW="0">
                    <a href={here(address)} target="_blank" rel="noreferrer" style={{ display: "inline-block", lineHeight: "26px" }}>
                      {address}
                    </a>
                  </Mono>
                  <CopyButton text={address} label={"the address of " + name} />
                </Flex>
              ),
          )}
          <Heading as="h2" fontSize="15px" mt="6" mb="2">
            Used by
          </Heading>
          {file.usedBy.length === 0 ? (
            <Text color="faint">Nothing shows it.</Text>
          ) : (
            <Rows label="Used by" head={["Entry", "Type", "Field"]}>
              {file.usedBy.map((u) => (
                <Row key={u.entry + u.field}>
                  <Cell head>
                    <EntryLink id={u.entry} title={u.title} />
                  </Cell>
                  <Cell>{u.type}</Cell>
                  <Cell>{u.field}</Cell>
                </Row>
              ))}
            </Rows>
          )}
        </Box>
        <Box flex="1 1 320px" minW="0">
          <Fields id="file" of={form} submit={(v) => save(v, file.published)}>
            <TextField name="name" label="Name" />
            {file.width ? (
              <Box mb="3">
                <TickField name="decorative" label="Decorative: it says nothing, and needs no description" />
              </Box>
            ) : null}
            {!form.watch("decorative") &&
              locales.map((l) => (
                <TextField key={l.tag} name={`alt.${l.tag}`} label={`Description, ${l.name || l.tag}`} lang={l.tag} />
              ))}
            {locales.map((l) => (
              <Labelled key={l.tag} name={`caption.${l.tag}`} label={`Caption, ${l.name || l.tag}`}>
                <Textarea size="sm" bg="sheet" borderColor="control" rows={2} lang={l.tag} {...form.register(`caption.${l.tag}`)} />
              </Labelled>
            ))}
            <TextField name="credit" label="Credit" />
            <TextField name="tags" label="Tags" help="Parted by commas" />
            <Flex gap="2" wrap="wrap" mb="4">
              <Main type="submit" disabled={!dirty}>
                {file.published ? "Save and publish" : "Save"}
              </Main>
              {file.published && (
                <Act h="8" disabled={!dirty} onClick={() => void form.handleSubmit((v) => save(v, false))()}>
                  Save as a draft
                </Act>
              )}
              {!file.published && (
                <Act h="8" onClick={() => void form.handleSubmit((v) => save(v, true))()}>
                  Publish
                </Act>
              )}
            </Flex>
          </Fields>
          <Heading as="h2" fontSize="15px" mb="2">
            Other bytes
          </Heading>
          <DropZone label="Replace…" take={(all) => uploads.add(all)} />
          <Progress of={uploads} />
          <Text fontSize="13px">
            <Link to={"/entries/" + file.id + "?view=history"}>Its revisions</Link>
          </Text>
        </Box>
      </Flex>
      {deleting && (
        <DeleteWindow
          file={file}
          close={() => setDeleting(false)}
          done={() => {
            toast.done(`${file.name} is deleted`);
            void navigate("/files");
          }}
        />
      )}
      <SameByCommand command={`ubiquon file show ${file.id}`} />
    </Page>
  );
}

function DeleteWindow({ file, close, done }: { file: FileDetail; close: () => void; done: () => void }) {
  const queries = useQueryClient();
  const remove = useMutation({
    mutationFn: () => edit({ id: file.id, do: "delete" }),
    onSuccess: () => {
      done();
      void refreshAll(queries);
    },
  });
  const used = file.usedBy.length;
  return (
    <Window
      title={`Delete ${file.name}`}
      open
      close={close}
      actions={
        <Main bg="failure" disabled={used > 0} loading={remove.isPending} onClick={() => remove.mutate()}>
          Delete
        </Main>
      }
    >
      <Failure error={remove.error} />
      <Text>{used > 0 ? `${used} ${used === 1 ? "entry shows" : "entries show"} it. Take it out there first.` : "Its bytes, description and revisions go. This cannot be undone."}</Text>
    </Window>
  );
}
