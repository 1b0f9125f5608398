import { Text } from "@chakra-ui/react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { useModel } from "../../lib/use-model";
import { useWho } from "../../lib/who";
import { Cell, Empty, Loaded, Main, Mono, Page, Row, Rows, SameByCommand } from "../../ui";
import { Consequences } from "../types/consequences";
import { useModelDraft } from "../types/model-draft";
import { ShapeWindow } from "./shape-window";

/** The forms in which front ends get entries, whatever their types. */
export function ShapesPage() {
  const model = useModel();
  const { draft, set } = useModelDraft();
  const who = useWho();
  const [adding, setAdding] = useState(false);
  const navigate = useNavigate();
  return (
    <Page title="Shapes" says="The forms in which front ends get entries, whatever their types" actions={who.may.administer && <Main onClick={() => setAdding(true)}>New shape</Main>}>
      <Loaded query={model}>
        {(present) => {
          const m = draft?.model ?? present;
          const shapes = m.shapes ?? [];
          return (
            <>
              {draft && <Consequences of={draft} present={present} />}
              {shapes.length === 0 ? (
                <Empty>There is no shape yet. A shape gives what several types have the same names: a front end asks for ?shape=teaser and need not know where a heading comes from.</Empty>
              ) : (
                <Rows label="Shapes" head={["Shape", "Of", "Members", "Read as"]}>
                  {shapes.map((s) => (
                    <Row key={s.name} data-shape={s.name}>
                      <Cell head>
                        <Link to={"/shapes/" + s.name}>{s.name}</Link>
                        {s.help && <Text color="faint">{s.help}</Text>}
                      </Cell>
                      <Cell>{s.of.map((of) => m.types.find((t) => t.name === of)?.label ?? of).join(", ")}</Cell>
                      <Cell>{s.fields.map((f) => f.name).join(", ")}</Cell>
                      <Cell>
                        <Mono>?shape={s.name}</Mono>
                      </Cell>
                    </Row>
                  ))}
                </Rows>
              )}
              {adding && (
                <ShapeWindow
                  model={m}
                  shape={{ name: "", of: [], fields: [] }}
                  close={() => setAdding(false)}
                  save={(s) => {
                    set({ ...m, shapes: [...shapes, s] });
                    navigate("/shapes/" + s.name);
                  }}
                />
              )}
            </>
          );
        }}
      </Loaded>
      <SameByCommand command={draft ? "ubiquon shape check --model DIR" : "ubiquon shape list"} />
    </Page>
  );
}
