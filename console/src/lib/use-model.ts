import { useQuery } from "@tanstack/react-query";
import { call, key, type Model } from "../api";

/** The model that is in force. A page that only reads by it says how long one that it has will do. */
export function useModel(options: { staleTime?: number } = {}) {
  return useQuery({ queryKey: key("model"), queryFn: ({ signal }) => call<Model>("/model", { signal }), ...options });
}

/** What events and the audit log are made of, as filters on them know it. */
export function useRecordModel() {
  return useQuery({ queryKey: key("records"), queryFn: ({ signal }) => call<Model>("/records", { signal }), staleTime: Infinity });
}
