import { Button, Dialog, Portal, Text } from "@chakra-ui/react";
import { useState, type ReactNode } from "react";

/**
 * A window. Once something is typed or chosen in it, Escape and the ground beside it do not close
 * it any more, and Close asks first; nor do they where it is held, since what it shows is shown once.
 */
export function Window({ title, open, close, children, actions, wide, held = false, closing = "Close" }: { title: string; open: boolean; close: () => void; children: ReactNode; actions?: ReactNode; wide?: boolean; held?: boolean; closing?: string }) {
  const [dirty, setDirty] = useState(false);
  const [asking, setAsking] = useState(false);
  const touched = () => {
    setDirty(true);
    setAsking(false);
  };
  const leave = () => {
    setDirty(false);
    setAsking(false);
    close();
  };
  const kept = dirty || held;
  return (
    <Dialog.Root open={open} onOpenChange={(e) => !e.open && leave()} closeOnEscape={!kept} closeOnInteractOutside={!kept} scrollBehavior="inside">
      <Portal>
        <Dialog.Backdrop bg="blackAlpha.500" />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet" color="ink" borderWidth="1px" borderColor="line" borderRadius="md" maxW={{ base: "calc(100vw - 32px)", md: wide ? "min(860px, calc(100vw - 64px))" : "520px" }} data-window={title}>
            <Dialog.Header pb="2">
              <Dialog.Title fontSize="16px">{title}</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body onInput={touched} onChange={touched}>
              {children}
            </Dialog.Body>
            <Dialog.Footer gap="2">
              {asking && (
                <Text color="warning" role="status" flex="1">
                  What you entered here is not kept.
                </Text>
              )}
              <Button size="sm" variant="outline" borderColor="control" color="ink" onClick={() => (dirty && !asking ? setAsking(true) : leave())}>
                {asking ? "Discard" : closing}
              </Button>
              {actions}
            </Dialog.Footer>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
