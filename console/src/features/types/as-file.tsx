import { Box } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { call, key, Problem, type Model, type Plan } from "../../api";
import { Failure, Skeletons } from "../../ui";
import { useModelDraft } from "./model-draft";
import { toFile } from "./model-file";

const SourceEditor = lazy(() => import("../../code/source"));

/** The model as YAML; what is typed becomes the draft as soon as it can be read. */
export function AsFile({ model }: { model: Model }) {
  const { set } = useModelDraft();
  const file = toFile(model);
  const shown = useQuery({ queryKey: key("as-file", file), queryFn: ({ signal }) => call<Plan>("/model/plan", { method: "POST", body: { files: { "model.yaml": file } }, signal }), retry: false });
  const [text, setText] = useState<string | null>(null);
  const [wrong, setWrong] = useState<unknown>(null);
  useEffect(() => {
    if (text === null) return;
    const rested = setTimeout(
      () =>
        call<Plan>("/model/plan", { method: "POST", body: { files: { "model.yaml": text } } }).then(
          (p) => {
            setWrong(null);
            if (p.model) set(p.model);
          },
          (error) => setWrong(error),
        ),
      400,
    );
    return () => clearTimeout(rested);
    // set is another function each time, and does the same.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [text]);
  if (text === null && !shown.data) return <Skeletons />;
  const mistakes = wrong instanceof Problem ? wrong.body.mistakes : undefined;
  return (
    <Box>
      <Failure error={wrong} />
      <Suspense fallback={<Skeletons />}>
        <SourceEditor label="The model as YAML" kind="yaml" value={text ?? shown.data?.yaml ?? ""} onChange={setText} wrong={mistakes} minHeight="420px" maxHeight="68vh" />
      </Suspense>
    </Box>
  );
}
