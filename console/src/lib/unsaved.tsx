import { Text } from "@chakra-ui/react";
import { useEffect } from "react";
import { useBlocker } from "react-router";
import { Main, Window } from "../ui";

let open = 0;

/** Whether a page shown has something that is not saved. */
export const unsavedNow = () => open > 0;

/** Asks before a page is left with something unsaved; drop throws that away. */
export function Unsaved({ unsaved, what, drop }: { unsaved: boolean; what: string; drop: () => void }) {
  const leaving = useBlocker(({ currentLocation, nextLocation }) => unsaved && currentLocation.pathname !== nextLocation.pathname);
  useEffect(() => {
    if (!unsaved) return;
    const warn = (event: BeforeUnloadEvent) => event.preventDefault();
    open++;
    addEventListener("beforeunload", warn);
    return () => {
      open--;
      removeEventListener("beforeunload", warn);
    };
  }, [unsaved]);
  if (leaving.state !== "blocked") return null;
  return (
    <Window
      title="Leave without saving?"
      open
      close={() => leaving.reset()}
      closing="Stay here"
      actions={
        <Main
          bg="failure"
          onClick={() => {
            drop();
            leaving.proceed();
          }}
        >
          Leave and discard changes
        </Main>
      }
    >
      <Text>What you changed in {what} is not saved yet.</Text>
    </Window>
  );
}
