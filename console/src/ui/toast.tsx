import { Box, createToaster, Portal, Toast, Toaster } from "@chakra-ui/react";

const toaster = createToaster({ placement: "bottom-end", pauseOnPageIdle: true, max: 4, duration: 6_000 });

/** Says briefly, beside whatever is shown, that something was done or has happened elsewhere. */
export const toast = {
  done: (text: string) => toaster.create({ title: text, type: "success" }),
  news: (text: string) => toaster.create({ title: text, type: "info" }),
  failed: (text: string) => toaster.create({ title: text, type: "error", duration: 12_000 }),
};

const signs: Record<string, [string, string]> = { success: ["●", "good"], info: ["◐", "accent"], error: ["✕", "failure"] };

/** Where toasts show. The shell has one. */
export function Toasts() {
  return (
    <Portal>
      <Toaster toaster={toaster} insetInline={{ mdDown: "4" }}>
        {(t) => {
          const [sign, colour] = signs[t.type ?? "info"] ?? signs.info!;
          return (
            <Toast.Root bg="sheet" color="ink" borderWidth="1px" borderColor={colour} borderRadius="md" boxShadow="md" maxW="420px" alignItems="baseline" data-toast>
              <Box color={colour} aria-hidden>
                {sign}
              </Box>
              <Toast.Title flex="1" fontWeight="500">
                {t.title}
              </Toast.Title>
              <Toast.CloseTrigger position="static" color="ink" aria-label="Close" />
            </Toast.Root>
          );
        }}
      </Toaster>
    </Portal>
  );
}
