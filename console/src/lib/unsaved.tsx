import { Text } from "@chakra-ui/react";
import { useEffect } from "react";
import { useBlocker } from "react-router";
import { Main, Window } from "../parts";

/** Asks before a page is left with something unsaved; drop throws that away. */
export function Unsaved({ unsaved, what, drop }: { unsaved: boolean; what: string; drop: () => void }) {
  const leaving = useBlocker(({ currentLocation, nextLocation }) => unsaved && currentLocation.pathname !== nextLocation.pathname);
  useEffect(() => {
    const warn = (event: BeforeUnloadEvent) => unsaved && event.preventDefault();
    addEventListener("beforeunload", warn);
    return () => removeEventListener("beforeunload", warn);
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
          Leave, drop the changes
        </Main>
      }
    >
      <Text>What you changed in {what} is not saved yet.</Text>
    </Window>
  );
}
