import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { call, key, type File as Stored, type FileList } from "../../api";
import { usePutAddress } from "../../lib/address";
import { useRested } from "../../lib/rested";
import { Act, Empty, Failure, List, Page, Pick, SameByCommand, Skeletons, State, Tick, toast, useSort, When, type Column } from "../../ui";
import { bytesText, here } from "./crop";
import { DropZone, Progress, useUploads } from "./uploads";

const atOnce = 60;

/** A picture in small, or what kind of file it is. */
export function Thumb({ file, size = 40 }: { file: Stored; size?: number }) {
  if (file.preview) return <img src={here(file.preview)} alt="" loading="lazy" style={{ width: size, height: size, objectFit: "contain", background: file.color }} />;
  return (
    <Flex w={size + "px"} h={size + "px"} align="center" justify="center" bg="paper" color="faint" fontSize="11px" fontFamily="mono" aria-hidden>
      {file.name.split(".").pop()?.slice(0, 5)}
    </Flex>
  );
}

export const describedBy = (f: Stored) => (f.description.decorative ? "(decorative)" : ((Object.values((f.description.alt ?? {}) as Record<string, string>)[0] ?? "") as string));

const columns: Column<Stored>[] = [
  { name: "Picture", width: "70px", cell: (f) => <Thumb file={f} size={32} /> },
  { name: "Name", sort: "name", head: true, cell: (f) => <Link to={"/files/" + f.id}>{f.name}</Link> },
  { name: "Type", width: "130px", cell: (f) => f.mediaType },
  { name: "Pixels", width: "120px", cell: (f) => (f.width ? `${f.width} × ${f.height}` : "–") },
  { name: "Size", sort: "bytes", width: "90px", number: true, cell: (f) => bytesText(f.bytes) },
  { name: "Description", cell: (f) => describedBy(f) || (f.width ? <span style={{ color: "var(--chakra-colors-warning)" }}>◐ none</span> : "–") },
  { name: "State", width: "120px", cell: (f) => <State of={f.published ? "published" : "draft"} /> },
  { name: "Changed", sort: "updated", width: "140px", cell: (f) => <When at={f.updated} /> },
];

const filters = ["search", "type", "use"] as const;

export function FilesPage() {
  const [params] = useSearchParams();
  const put = usePutAddress();
  const navigate = useNavigate();
  const get = (name: string) => params.get(name) ?? "";
  const [sort, setSort] = useSort("-updated");
  const [typed, setTyped] = useState(get("search"));
  const search = useRested(typed, 200);
  const [pages, setPages] = useState(1);
  const asTable = get("as") === "table";
  const asked = new URLSearchParams({ sort, limit: String(atOnce * pages) });
  for (const name of filters) {
    const value = name === "search" ? search : get(name);
    if (value) asked.set(name, value);
  }
  if (get("undescribed")) asked.set("undescribed", "true");
  const files = useQuery({ queryKey: key("files", asked.toString()), queryFn: ({ signal }) => call<FileList>("/files?" + asked, { signal }), placeholderData: keepPreviousData });
  const uploads = useUploads({ uploaded: (f) => toast.done(`${f.name} is here`) });
  const set = (name: string, value: string) => {
    setPages(1);
    put({ [name]: value });
  };
  const command = ["ubiquon file list", ...[...filters].filter((n) => asked.get(n)).map((n) => `--${n} '${asked.get(n)}'`), ...(get("undescribed") ? ["--undescribed"] : [])].join(" ");
  return (
    <Page title="Files" says={files.data && `${files.data.total} in all`}>
      <DropZone several label="Upload files…" take={(all) => uploads.add(all)} />
      <Progress of={uploads} />
      <Flex gap="3" mb="3" align="center" wrap="wrap">
        <Input size="sm" maxW="230px" bg="sheet" borderColor="control" placeholder="Name, description or tag" aria-label="Search" value={typed} onChange={(e) => setTyped(e.target.value)} />
        <Pick label="Type" value={get("type")} onChange={(v) => set("type", v)} w="150px">
          <option value="">every type</option>
          <option value="image/*">pictures</option>
          <option value="video/*">videos</option>
          <option value="audio/*">sounds</option>
          <option value="application/pdf">PDF</option>
          <option value="text/*">texts</option>
        </Pick>
        <Pick label="Use" value={get("use")} onChange={(v) => set("use", v)} w="150px">
          <option value="">used or not</option>
          <option value="used">used</option>
          <option value="unused">unused</option>
        </Pick>
        <Tick checked={!!get("undescribed")} onChange={(yes) => set("undescribed", yes ? "yes" : "")}>
          without description
        </Tick>
        <Box flex="1" />
        <Act aria-pressed={asTable} onClick={() => put({ as: asTable ? "" : "table" })}>
          {asTable ? "As pictures" : "As a table"}
        </Act>
      </Flex>
      <Failure error={files.error} />
      {!files.data ? (
        !files.error && <Skeletons />
      ) : files.data.total === 0 ? (
        <Empty>{asked.size > 2 ? "No file matches. Remove a filter." : "There are no files yet. Drop some above."}</Empty>
      ) : asTable ? (
        <List label="Files" columns={columns} rows={files.data.items} rowKey={(f) => f.id} mark="file" sort={sort} setSort={setSort} />
      ) : (
        <Grid files={files.data.items} choose={(f) => navigate("/files/" + f.id)} />
      )}
      {files.data && files.data.items.length < files.data.total && (
        <Act mt="3" loading={files.isFetching} onClick={() => setPages(pages + 1)}>
          Show more
        </Act>
      )}
      <SameByCommand command={command} />
    </Page>
  );
}

/** Files as pictures, each of which can be chosen. */
export function Grid({ files, choose }: { files: Stored[]; choose: (f: Stored) => void }) {
  return (
    <Box as="ul" display="grid" gridTemplateColumns="repeat(auto-fill, minmax(168px, 1fr))" gap="3" listStyleType="none" p="0" m="0">
      {files.map((f) => (
        <Box as="li" key={f.id} data-file={f.id}>
          <Box as="button" display="block" w="full" textAlign="start" borderWidth="1px" borderColor="line" bg="sheet" cursor="pointer" _hover={{ borderColor: "accent" }} _focusVisible={{ outline: "2px solid var(--chakra-colors-accent)" }} onClick={() => choose(f)}>
            <Flex h="118px" align="center" justify="center" bg="paper" overflow="hidden">
              {f.preview ? <img src={here(f.preview)} alt="" loading="lazy" style={{ width: "100%", height: "118px", objectFit: "cover", background: f.color }} /> : <Thumb file={f} size={56} />}
            </Flex>
            <Box p="2">
              <Text truncate fontWeight="500">
                {f.name}
              </Text>
              <Text truncate fontSize="12px" color="faint">
                {f.width ? `${f.width} × ${f.height}` : f.mediaType}, {bytesText(f.bytes)}
              </Text>
              <Text truncate fontSize="12px" color={describedBy(f) || !f.width ? "ink" : "warning"}>
                {describedBy(f) || (f.width ? "◐ no description" : "\u00a0")}
              </Text>
            </Box>
          </Box>
        </Box>
      ))}
    </Box>
  );
}
