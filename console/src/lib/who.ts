import { createContext, useContext } from "react";
import type { Who } from "../api";

export const WhoContext = createContext<{ who: Who; signOut: () => void; signedIn: boolean } | null>(null);

/** Who is signed in. */
export const useWho = () => useContext(WhoContext)!.who;

/** Whether the session goes on, and how to end it. */
export const useSession = () => useContext(WhoContext)!;
