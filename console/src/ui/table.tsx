import { Box, Flex, Table, useBreakpointValue, type SystemStyleObject } from "@chakra-ui/react";
import { createColumnHelper, getCoreRowModel, getSortedRowModel, useReactTable, type SortingState } from "@tanstack/react-table";
import { useWindowVirtualizer } from "@tanstack/react-virtual";
import { memo, useEffect, useLayoutEffect, useMemo, useRef, useState, type KeyboardEvent, type ReactNode } from "react";
import { useSearchParams } from "react-router";
import { usePutAddress } from "../lib/address";

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
function Frame({ label, css, children }: { label: string; css?: SystemStyleObject[]; children: ReactNode }) {
  const narrow = useBreakpointValue({ base: true, lg: false }, { ssr: false });
  return (
    <Box
      overflowX={{ base: "auto", lg: "visible" }}
      {...(narrow ? { tabIndex: 0, role: "region", "aria-label": label } : {})}
      css={{ "@media (max-width: 1023px)": { "& tr > *:first-child": { position: "sticky", left: 0, background: "var(--chakra-colors-sheet)", zIndex: 1 } } }}
    >
      <Table.Root css={css} size="sm" variant="line" bg="sheet" borderWidth="1px" borderColor="line" aria-label={label} onKeyDown={alongRows}>
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
  const [params] = useSearchParams();
  const put = usePutAddress();
  const now = params.get("sort") ?? initial;
  return [
    now,
    (name) => {
      const to = now === name ? "-" + name : name;
      put({ sort: to === initial ? "" : to }, { replace: true });
    },
  ];
}

type Choice<T> = { has: (row: T) => boolean; can: (row: T) => boolean; name: (row: T) => string; set: (rows: T[], yes: boolean) => void };

type ListProps<T> = {
  label: string;
  columns: Column<T>[];
  /** The rows; undefined for one that is not loaded yet. */
  rows: (T | undefined)[];
  rowKey: (row: T) => string;
  /** What marks a row for tests and styles: data-entry and the like. */
  mark?: string;
  /** How it is sorted, and how to sort it otherwise; a list without stays as it comes. */
  sort?: string;
  setSort?: (name: string) => void;
  /** Called with the first and the last row on the screen. */
  shown?: (first: number, last: number) => void;
  choice?: Choice<T>;
  /** Rows are as high as their content; else all are one line high, and longer text is cut. */
  tall?: boolean;
};

const rowHeight = 37;

// Rows come and go by the dozen while a list is scrolled: they are plain elements with one style for
// all of them.
const rowStyles = {
  "& tbody tr:hover": { background: "color-mix(in srgb, currentColor 4%, transparent)" },
  "& tbody td, & tbody th": { borderBottom: "1px solid var(--chakra-colors-line)", padding: "0 8px", fontWeight: 400, color: "var(--chakra-colors-ink)", textAlign: "start" },
  "& tbody .number": { textAlign: "end" },
  "& tbody .spacer td": { padding: 0, border: "none" },
};

const oneLine = { tableLayout: "fixed", minWidth: "900px", "& tbody td, & tbody th": { height: `${rowHeight}px`, whiteSpace: "nowrap", overflow: "hidden", textOverflow: "ellipsis" } };
const manyLines = { "& tbody td, & tbody th": { paddingTop: "8px", paddingBottom: "8px", verticalAlign: "top" } };

const boxStyle = { accentColor: "var(--chakra-colors-accent)", width: 16, height: 16, verticalAlign: "middle" };

type RowProps<T> = { row: T | undefined; index: number; columns: Column<T>[]; rowKey: (row: T) => string; mark?: string; choice?: Choice<T>; chosen: boolean; measure?: (el: HTMLElement | null) => void };

function PlainRow<T>({ row, index, columns, rowKey, mark, choice, chosen, measure }: RowProps<T>) {
  const attributes = row !== undefined && mark ? { ["data-" + mark]: rowKey(row) } : {};
  return (
    <tr ref={measure} data-index={index} {...attributes}>
      {choice && (
        <td>
          {row !== undefined && choice.can(row) && <input type="checkbox" aria-label={"Select " + choice.name(row)} checked={chosen} onChange={(e) => choice.set([row], e.target.checked)} style={boxStyle} />}
        </td>
      )}
      {columns.map((c) => {
        const content = row === undefined ? "…" : c.cell(row);
        return c.head ? (
          <th key={c.name} scope="row">
            {content}
          </th>
        ) : (
          <td key={c.name} className={c.number ? "number" : undefined}>
            {content}
          </td>
        );
      })}
    </tr>
  );
}

// A row that shows the same is not drawn again when others come and go.
const MemoRow = memo(PlainRow, (a, b) => a.row === b.row && a.index === b.index && a.chosen === b.chosen && a.columns === b.columns) as typeof PlainRow;

/**
 * A list of any length: sorted by the heads of its columns, chosen from, and with only those rows
 * on the page that are on the screen. The columns are the same object each time.
 */
export function List<T>({ label, columns, rows, rowKey, mark, sort = "", setSort, shown, choice, tall = false }: ListProps<T>) {
  const sorting = useMemo<SortingState>(() => [{ id: sort.replace(/^-/, ""), desc: sort.startsWith("-") }], [sort]);
  const sorted = columns.some((c) => c.by);
  const defs = useMemo(() => {
    const helper = createColumnHelper<T | undefined>();
    return columns.map((c) => helper.accessor((row: T | undefined) => (row === undefined ? "" : (c.by?.(row) ?? "")), { id: c.sort ?? c.name, enableSorting: !!(c.by ?? c.sort), meta: c, header: c.name }));
  }, [columns]);
  // What the service sorts, or nobody, is shown as it comes.
  const data = useMemo(() => (sorted ? rows : []), [sorted, rows]);
  const table = useReactTable({ data, columns: defs, state: { sorting }, manualSorting: !sorted, getCoreRowModel: getCoreRowModel(), getSortedRowModel: getSortedRowModel() });
  const all = sorted ? table.getRowModel().rows.map((r) => r.original) : rows;
  const can = choice?.can;
  const choosable = useMemo(() => (can ? rows.filter((r): r is T => r !== undefined && can(r)) : []), [can, rows]);
  const chosen = choice ? choosable.filter(choice.has).length : 0;
  return (
    <Frame label={label} css={[rowStyles, tall ? manyLines : oneLine]}>
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
                style={boxStyle}
              />
            </Table.Cell>
          )}
          {table.getFlatHeaders().map((h) => {
            const c = h.column.columnDef.meta as Column<T>;
            const by = h.column.getIsSorted();
            return (
              <Table.ColumnHeader key={h.id} scope="col" aria-sort={by ? (by === "asc" ? "ascending" : "descending") : undefined} textAlign={c.number ? "end" : undefined} w={c.width} {...headStyle}>
                {h.column.getCanSort() ? (
                  <Flex as="button" align="center" gap="1" display="inline-flex" cursor="pointer" minH="24px" onClick={() => setSort?.(h.column.id)}>
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
      <Body all={all} columns={columns} rowKey={rowKey} mark={mark} choice={choice} tall={tall} shown={shown} />
    </Frame>
  );
}

type BodyProps<T> = Pick<ListProps<T>, "columns" | "rowKey" | "mark" | "choice" | "tall" | "shown"> & { all: (T | undefined)[] };

/** The rows on the screen. It is drawn again with each step of scrolling, and nothing around it is. */
function Body<T>({ all, columns, rowKey, mark, choice, tall, shown }: BodyProps<T>) {
  const body = useRef<HTMLTableSectionElement>(null);
  const [top, setTop] = useState(0);
  useLayoutEffect(() => {
    // What stands above may have become higher or lower.
    const measure = () => body.current && setTop(Math.round(body.current.getBoundingClientRect().top + scrollY));
    measure();
    const around = new ResizeObserver(measure);
    around.observe(document.body);
    return () => around.disconnect();
  }, []);
  const virtual = useWindowVirtualizer({ count: all.length, estimateSize: () => rowHeight, overscan: 8, scrollMargin: top, useFlushSync: false });
  const items = virtual.getVirtualItems();
  const first = items[0]?.index ?? 0;
  const last = items[items.length - 1]?.index ?? 0;
  useEffect(() => shown?.(first, last), [shown, first, last]);
  const above = items.length ? items[0]!.start - top : 0;
  const below = items.length ? virtual.getTotalSize() - (items[items.length - 1]!.end - top) : 0;
  const width = columns.length + (choice ? 1 : 0);
  return (
    <tbody ref={body}>
      {above > 0 && <Spacer height={above} columns={width} />}
      {items.map((item) => {
        const row = all[item.index];
        return <MemoRow key={row === undefined ? "row " + item.index : rowKey(row)} row={row} index={item.index} columns={columns} rowKey={rowKey} mark={mark} choice={choice} chosen={!!choice && row !== undefined && choice.has(row)} measure={tall ? virtual.measureElement : undefined} />;
      })}
      {below > 0 && <Spacer height={below} columns={width} />}
    </tbody>
  );
}

/** The room of rows that are not on the screen. */
function Spacer({ height, columns }: { height: number; columns: number }) {
  return (
    <tr aria-hidden className="spacer">
      {Array.from({ length: columns }, (_, i) => (
        <td key={i} style={{ height }}>
          {"\u00a0"}
        </td>
      ))}
    </tr>
  );
}
