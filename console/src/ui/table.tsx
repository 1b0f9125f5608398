import { Box, Flex, Skeleton, Table, useBreakpointValue } from "@chakra-ui/react";
import { createColumnHelper, flexRender, getCoreRowModel, getSortedRowModel, useReactTable, type SortingState } from "@tanstack/react-table";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useMemo, useRef, type KeyboardEvent, type ReactNode } from "react";
import { useSearchParams } from "react-router";

const headStyle = { color: "faint", fontWeight: "500", fontSize: "12px", borderColor: "line", py: "1.5" } as const;

/** Moves the focus between rows, staying in the column. */
function alongRows(e: KeyboardEvent<HTMLElement>) {
  if (e.key !== "ArrowDown" && e.key !== "ArrowUp") return;
  const focusable = "a, button, input[type=checkbox]";
  const at = (e.target as HTMLElement).closest<HTMLElement>(focusable);
  const row = at?.closest("tr");
  if (!at || !row) return;
  const column = [...row.querySelectorAll(focusable)].indexOf(at);
  const next = (e.key === "ArrowDown" ? row.nextElementSibling : row.previousElementSibling)?.querySelectorAll<HTMLElement>(focusable);
  if (!next?.length) return;
  e.preventDefault();
  next[Math.min(column, next.length - 1)]!.focus();
}

/** Wide tables scroll within themselves on narrow screens, with the first column in place. */
function Frame({ label, children }: { label: string; children: ReactNode }) {
  const narrow = useBreakpointValue({ base: true, lg: false }, { ssr: false });
  return (
    <Box
      overflowX={{ base: "auto", lg: "visible" }}
      {...(narrow ? { tabIndex: 0, role: "region", "aria-label": label } : {})}
      css={{ "@media (max-width: 1023px)": { "& th:first-of-type, & td:first-of-type": { position: "sticky", left: 0, background: "var(--chakra-colors-sheet)", zIndex: 1 } } }}
    >
      <Table.Root size="sm" variant="line" bg="sheet" borderWidth="1px" borderColor="line" aria-label={label} onKeyDown={alongRows}>
        {children}
      </Table.Root>
    </Box>
  );
}

/** A short table whose rows are written out; the heads of columns of figures are named in numbers too. */
export function Rows({ head, numbers = [], children, label }: { head: string[]; numbers?: string[]; children: ReactNode; label: string }) {
  return (
    <Frame label={label}>
      <Table.Header>
        <Table.Row bg="transparent">
          {head.map((h, i) =>
            h === "" ? (
              <Table.Cell key={i} borderColor="line" py="1.5" />
            ) : (
              <Table.ColumnHeader key={h} scope="col" textAlign={numbers.includes(h) ? "end" : undefined} {...headStyle}>
                {h}
              </Table.ColumnHeader>
            ),
          )}
        </Table.Row>
      </Table.Header>
      <Table.Body>{children}</Table.Body>
    </Frame>
  );
}

export function Row({ children, ...rest }: { children: ReactNode; [data: `data-${string}`]: string | undefined }) {
  return (
    <Table.Row bg="transparent" _hover={{ bg: "color-mix(in srgb, currentColor 4%, transparent)" }} {...rest}>
      {children}
    </Table.Row>
  );
}

/** A cell; the one that names its row is its head. */
export function Cell({ children, right, head }: { children: ReactNode; right?: boolean; head?: boolean }) {
  if (head)
    return (
      <Table.ColumnHeader scope="row" borderColor="line" py="2" fontWeight="400" color="ink">
        {children}
      </Table.ColumnHeader>
    );
  return (
    <Table.Cell borderColor="line" py="2" textAlign={right ? "end" : undefined}>
      {children}
    </Table.Cell>
  );
}

/** One column of a list. */
export type Column<T> = {
  name: string;
  cell: (row: T) => ReactNode;
  /** What rows are sorted by; without it the column does not sort. */
  by?: (row: T) => string | number;
  /** The name that the service sorts by; the list is then sorted by the service. */
  sort?: string;
  number?: boolean;
  /** The column names its row. */
  head?: boolean;
  /** The width in a list that is scrolled, so that columns keep theirs. */
  width?: string;
};

/** The column that a list is sorted by, as it stands in the address: -name for descending. */
export function useSort(initial: string): [string, (name: string) => void] {
  const [params, setParams] = useSearchParams();
  const now = params.get("sort") ?? initial;
  return [
    now,
    (name) =>
      setParams(
        (before) => {
          const next = new URLSearchParams(before);
          const to = now === name ? "-" + name : name;
          if (to === initial) next.delete("sort");
          else next.set("sort", to);
          return next;
        },
        { replace: true },
      ),
  ];
}

type ListProps<T> = {
  label: string;
  columns: Column<T>[];
  /** The rows; undefined for one that is not loaded yet. */
  rows: (T | undefined)[];
  rowKey: (row: T) => string;
  /** What marks a row for tests and styles: data-entry and the like. */
  mark?: string;
  sort: string;
  setSort: (name: string) => void;
  /** Called with the first and the last row on the screen. */
  shown?: (first: number, last: number) => void;
  choice?: { has: (row: T) => boolean; can: (row: T) => boolean; name: (row: T) => string; set: (rows: T[], yes: boolean) => void };
};

const estimated = 38;

/** The room of rows that are not on the screen. */
function Spacer({ height, columns }: { height: number; columns: number }) {
  return (
    <Table.Row aria-hidden bg="transparent">
      <Table.Cell colSpan={columns} p="0" border="none" style={{ height }} />
    </Table.Row>
  );
}

/**
 * A list of any length: sorted by the heads of its columns, chosen from, and with only those rows
 * on the page that are on the screen.
 */
export function List<T>({ label, columns, rows, rowKey, mark, sort, setSort, shown, choice }: ListProps<T>) {
  const body = useRef<HTMLTableSectionElement>(null);
  const sorting = useMemo<SortingState>(() => [{ id: sort.replace(/^-/, ""), desc: sort.startsWith("-") }], [sort]);
  const byService = columns.some((c) => c.sort);
  const defs = useMemo(() => {
    const helper = createColumnHelper<T | undefined>();
    return columns.map((c) =>
      helper.accessor((row: T | undefined) => (row === undefined ? "" : (c.by?.(row) ?? "")), { id: c.sort ?? c.name, enableSorting: !!(c.by ?? c.sort), meta: c, header: c.name, cell: (x) => (x.row.original === undefined ? <Skeleton height="4" /> : c.cell(x.row.original)) }),
    );
  }, [columns]);
  const table = useReactTable({ data: rows, columns: defs, state: { sorting }, manualSorting: byService, getCoreRowModel: getCoreRowModel(), getSortedRowModel: getSortedRowModel() });
  const all = table.getRowModel().rows;
  const virtual = useWindowVirtualizer({ count: all.length, estimateSize: () => estimated, overscan: 12, scrollMargin: body.current?.offsetTop ?? 0 });
  const items = virtual.getVirtualItems();
  const first = items[0]?.index ?? 0;
  const last = items[items.length - 1]?.index ?? 0;
  useEffect(() => shown?.(first, last), [shown, first, last]);
  const above = items.length ? items[0]!.start - virtual.options.scrollMargin : 0;
  const below = items.length ? virtual.getTotalSize() - (items[items.length - 1]!.end - virtual.options.scrollMargin) : 0;
  const choosable = choice ? rows.filter((r): r is T => r !== undefined && choice.can(r)) : [];
  const chosen = choice ? choosable.filter(choice.has).length : 0;
  const width = columns.length + (choice ? 1 : 0);
  return (
    <Frame label={label}>
      <Table.Header position={{ lg: "sticky" }} top="0" zIndex="1" bg="sheet">
        <Table.Row bg="sheet">
          {choice && (
            <Table.Cell borderColor="line" py="1.5" w="40px">
              <input
                type="checkbox"
                aria-label="Select all loaded entries"
                checked={chosen > 0 && chosen === choosable.length}
                ref={(box) => {
                  if (box) box.indeterminate = chosen > 0 && chosen < choosable.length;
                }}
                onChange={(e) => choice.set(choosable, e.target.checked)}
                style={{ accentColor: "var(--chakra-colors-accent)", width: 16, height: 16 }}
              />
            </Table.Cell>
          )}
          {table.getFlatHeaders().map((h) => {
            const c = h.column.columnDef.meta as Column<T>;
            const by = h.column.getIsSorted();
            return (
              <Table.ColumnHeader key={h.id} scope="col" aria-sort={by ? (by === "asc" ? "ascending" : "descending") : undefined} textAlign={c.number ? "end" : undefined} w={c.width} {...headStyle}>
                {h.column.getCanSort() ? (
                  <Flex as="button" align="center" gap="1" display="inline-flex" cursor="pointer" minH="24px" onClick={() => setSort(h.column.id)}>
                    {c.name}
                    <Box as="span" aria-hidden w="1em">
                      {by === "asc" ? "↑" : by === "desc" ? "↓" : ""}
                    </Box>
                  </Flex>
                ) : (
                  c.name
                )}
              </Table.ColumnHeader>
            );
          })}
        </Table.Row>
      </Table.Header>
      <Table.Body ref={body}>
        {above > 0 && <Spacer height={above} columns={width} />}
        {items.map((item) => {
          const row = all[item.index]!;
          const of = row.original;
          return (
            <Table.Row
              key={of === undefined ? "row " + item.index : rowKey(of)}
              ref={virtual.measureElement}
              data-index={item.index}
              {...(mark && of !== undefined ? { ["data-" + mark]: rowKey(of) } : {})}
              bg="transparent"
              _hover={{ bg: "color-mix(in srgb, currentColor 4%, transparent)" }}
            >
              {choice && (
                <Table.Cell borderColor="line" py="2">
                  {of !== undefined && choice.can(of) && (
                    <input type="checkbox" aria-label={"Select " + choice.name(of)} checked={choice.has(of)} onChange={(e) => choice.set([of], e.target.checked)} style={{ accentColor: "var(--chakra-colors-accent)", width: 16, height: 16 }} />
                  )}
                </Table.Cell>
              )}
              {row.getVisibleCells().map((cell) => {
                const c = cell.column.columnDef.meta as Column<T>;
                return (
                  <Cell key={cell.id} right={c.number} head={c.head}>
                    {flexRender(cell.column.columnDef.cell, cell.getContext())}
                  </Cell>
                );
              })}
            </Table.Row>
          );
        })}
        {below > 0 && <Spacer height={below} columns={width} />}
      </Table.Body>
    </Frame>
  );
}
