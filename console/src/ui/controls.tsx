import { Box, Button, NativeSelect, type BoxProps, type ButtonProps } from "@chakra-ui/react";
import type { ReactNode } from "react";

/** The one action of a page or window that matters most. */
export function Main(props: ButtonProps) {
  return <Button size="sm" bg="accent" color="sheet" _disabled={{ opacity: 0.45 }} {...props} />;
}

/** Any other action. */
export function Act(props: ButtonProps) {
  return <Button size="xs" variant="outline" borderColor="control" color="ink" bg="sheet" {...props} />;
}

/** A choice out of a few. */
export function Pick({ label, value, onChange, children, ...rest }: { label: string; value: string; onChange: (value: string) => void; children: ReactNode } & Omit<BoxProps, "onChange">) {
  return (
    <NativeSelect.Root size="sm" w="auto" {...(rest as object)}>
      <NativeSelect.Field bg="sheet" borderColor="control" aria-label={label} value={value} onChange={(e) => onChange(e.target.value)}>
        {children}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}

/** A tick box with its words. */
export function Tick({ checked, onChange, children, name }: { checked: boolean; onChange: (yes: boolean) => void; children?: ReactNode; name?: string }) {
  return (
    <Box as="label" display="inline-flex" alignItems="center" gap="2" cursor="pointer" verticalAlign="middle" minH="24px">
      <input type="checkbox" checked={checked} onChange={(e) => onChange(e.target.checked)} aria-label={name} style={{ accentColor: "var(--chakra-colors-accent)", width: 16, height: 16, margin: 0 }} />
      {children}
    </Box>
  );
}

/** How fields to fill in look. */
export const inputStyle = { size: "sm" as const, bg: "sheet", borderColor: "control", _placeholder: { color: "faint" } };
