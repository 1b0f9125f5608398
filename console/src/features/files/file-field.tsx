import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useContext, useState } from "react";
import { Link } from "react-router";
import { call, key, type FileDetail, type FileList, type File as Stored } from "../../api";
import { useRested } from "../../lib/rested";
import { Act, Failure, inputStyle, Loaded, Window } from "../../ui";
import { Form, type Control } from "../entries/form-context";
import { bytesText, here, type Focus } from "./crop";
import { Grid, describedBy, Thumb } from "./files";
import { Crops, FocalEditor, usualCrops } from "./focal";
import { DropZone, Progress, useUploads } from "./uploads";

type Value = { file?: string; url?: string; alt?: string; focus?: Focus };

/** A file of the library as an entry shows it: chosen, or uploaded in place. */
export function FileControl({ field, value, set, label }: Control) {
  const { readOnly } = useContext(Form);
  const v = (typeof value === "string" ? { file: value } : (value ?? {})) as Value;
  const [choosing, setChoosing] = useState(false);
  const uploads = useUploads({ uploaded: (f) => set({ file: f.id }) });
  const accept = field.types?.join(",");
  return (
    <Box data-file-field={v.file ?? ""}>
      {v.file && <Chosen label={label} field={field} value={v} set={set} />}
      {v.url && (
        <Text mb="2">
          Outside: <a href={v.url}>{v.url}</a>
        </Text>
      )}
      {!readOnly && (
        <>
          {v.file || v.url ? (
            <Flex gap="2" mb="2">
              <Act onClick={() => setChoosing(true)}>Choose another…</Act>
              <Act onClick={() => set(undefined)}>Remove</Act>
            </Flex>
          ) : (
            <DropZone label="Upload…" accept={accept} take={(all) => uploads.add(all)}>
              <Act h="8" onClick={() => setChoosing(true)}>
                Choose from the library…
              </Act>
            </DropZone>
          )}
          <Progress of={uploads} />
        </>
      )}
      {choosing && (
        <ChooseWindow
          types={field.types}
          close={() => setChoosing(false)}
          choose={(f) => {
            set({ file: f.id });
            setChoosing(false);
          }}
        />
      )}
    </Box>
  );
}

function Chosen({ label, field, value, set }: { label: string; field: Control["field"]; value: Value; set: (v: unknown) => void }) {
  const { readOnly } = useContext(Form);
  const [own, setOwn] = useState(!!value.alt || !!value.focus);
  const file = useQuery({ queryKey: key("file", value.file), queryFn: ({ signal }) => call<FileDetail>("/files/" + encodeURIComponent(value.file!), { signal }) });
  const put = (change: Partial<Value>) => {
    const next = { ...value, ...change };
    for (const k of Object.keys(next) as (keyof Value)[]) if (next[k] === undefined || next[k] === "") delete next[k];
    set(next);
  };
  const crops = (field.renditions ?? []).filter((r) => r.width && r.height).map((r) => ({ name: r.name, width: r.width!, height: r.height! }));
  return (
    <Loaded query={file}>
      {(f) => {
        const focus = value.focus ?? (f.description.focus as Focus | undefined);
        const picture = f.width && f.height ? { src: here(f.preview), width: f.width, height: f.height, alt: "The picture itself" } : undefined;
        return (
          <Box mb="2">
            <Flex gap="3" align="start" wrap="wrap">
              <Thumb file={f} size={92} />
              <Box flex="1 1 200px" minW="0">
                <Link to={"/files/" + f.id}>{f.name}</Link>
                <Text color="faint" fontSize="13px">
                  {f.width ? `${f.width} × ${f.height}, ` : ""}
                  {bytesText(f.bytes)}
                  {f.published ? "" : "; published with the entry"}
                </Text>
                <Text color={value.alt || describedBy(f) || !f.width ? "ink" : "warning"} fontSize="13px">
                  {value.alt || describedBy(f) || (f.width ? "◐ It has no description yet: people who do not see it learn nothing." : "")}
                </Text>
              </Box>
              {picture && <Crops picture={picture} focus={focus} of={crops.length ? crops : usualCrops.slice(1, 3)} />}
            </Flex>
            {!readOnly && picture && (
              <Act mt="2" aria-expanded={own} onClick={() => setOwn(!own)}>
                {own ? "Less" : "Description and crop for this entry alone…"}
              </Act>
            )}
            {own && picture && (
              <Box mt="2" borderLeftWidth="2px" borderColor="line" pl="3">
                <Input {...inputStyle} mb="2" readOnly={readOnly} aria-label={label + ": description here"} placeholder={describedBy(f) || "Description here"} value={value.alt ?? ""} onChange={(e) => put({ alt: e.target.value })} />
                <FocalEditor picture={picture} focus={focus} set={(to) => put({ focus: to })} readOnly={readOnly} />
                {value.focus && !readOnly && (
                  <Act mt="2" onClick={() => put({ focus: undefined })}>
                    Take the file's own region
                  </Act>
                )}
              </Box>
            )}
          </Box>
        );
      }}
    </Loaded>
  );
}

/** Chooses a file of the library. */
function ChooseWindow({ types, close, choose }: { types?: string[]; close: () => void; choose: (f: Stored) => void }) {
  const [typed, setTyped] = useState("");
  const search = useRested(typed, 200);
  const asked = new URLSearchParams({ limit: "24" });
  if (search) asked.set("search", search);
  if (types?.length === 1) asked.set("type", types[0]!);
  const files = useQuery({ queryKey: key("files", "choose", asked.toString()), queryFn: ({ signal }) => call<FileList>("/files?" + asked, { signal }), placeholderData: keepPreviousData });
  return (
    <Window wide title="Choose a file" open close={close}>
      <Input {...inputStyle} mb="3" autoFocus aria-label="Search" placeholder="Name, description or tag" value={typed} onChange={(e) => (e.stopPropagation(), setTyped(e.target.value))} />
      <Failure error={files.error} />
      {files.data && <Grid files={files.data.items} choose={choose} />}
      {files.data?.total === 0 && <Text color="faint">No file matches.</Text>}
      {files.data && files.data.total > files.data.items.length && (
        <Text color="faint" mt="2">
          {files.data.items.length} of {files.data.total}; search for the others.
        </Text>
      )}
    </Window>
  );
}
