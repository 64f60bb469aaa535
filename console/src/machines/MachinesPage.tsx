import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import styled from "styled-components";
import type { Schemas } from "../api/client";
import { kinds, machines } from "../api/queries";
import { Care, Mono, Plain, Quiet } from "../parts/controls";
import { Columns, Desk, Pane, Row } from "../parts/layout";
import { Failure, Notice } from "../parts/Notice";
import { tokens } from "../theme";
import { Allowed } from "../useRight";
import { AddDrive } from "./AddDrive";
import { AddStore } from "./AddStore";
import { ChangeMachine } from "./ChangeMachine";
import { Persons } from "./Persons";
import { said, Session } from "./Session";
import { Sources } from "./Sources";
import { Unlock } from "./Unlock";

const List = styled.nav`
  li { border-top: 1px solid ${tokens.faint}; }
  a { display: block; padding: 6px 8px; text-decoration: none; overflow-wrap: anywhere; }
  a[aria-current="page"] { background: ${tokens.ground}; box-shadow: inset 3px 0 0 ${tokens.ink}; }
`;

type Doing = "store" | "drive" | "change" | undefined;

/** The machines that are looked after, and what copies of each are read from. */
export function MachinesPage() {
  const { name } = useParams();
  const { data, error } = useQuery(machines);
  const { data: known } = useQuery(kinds);
  const [doing, setDoing] = useState<Doing>();
  if (error) return <Failure problem={error} />;
  if (!data) return <Notice title="Reading the machines …" />;
  const one = data.machines.find((m) => m.name === name) ?? data.machines[0];
  if (!one) return <Notice title="No machine is looked after yet.">Add one with: humble-rewind machine add NAME --at DIR</Notice>;
  const stop = () => setDoing(undefined);
  return (
    <Columns $widths="minmax(200px, 260px) minmax(0, 1fr)">
      <Desk>
        <h1>Machines</h1>
        <List aria-label="Machines">
          <ul>
            {data.machines.map((m) => (
              <li key={m.name}>
                <Link to={`/machines/${m.name}`} aria-current={m === one ? "page" : undefined} onClick={stop}>
                  {m.name}
                  {said(m) && <Care as="div">{said(m)}</Care>}
                  <Quiet as="div">
                    {sourcesOf(m.sources.length)}
                    {held(m, data.machines).length > 0 && `, holds ${held(m, data.machines).length} of others`}
                  </Quiet>
                </Link>
              </li>
            ))}
          </ul>
        </List>
      </Desk>
      <Pane aria-label={one.name}>
        <h1>{one.name}</h1>
        <p>
          <Quiet>
            at {one.at.split("?")[0]}, in {one.zone}
          </Quiet>
        </p>
        <Session machine={one} alter={() => setDoing("change")} />
        {doing === "change" && <ChangeMachine key={one.name} machine={one} leave={stop} />}
        {one.notes.map((n) => (
          <Quiet as="p" key={n}>
            {n}
          </Quiet>
        ))}
        <Allowed right="arrange">
          {one.at.includes("://") && <Unlock what={one.name} label={`Password of ${one.name}`} machine />}
          {doing === undefined && (
            <Row>
              <Plain onPress={() => setDoing("store")}>Add a store …</Plain>
              <Allowed right="arrange" whole>
                <Plain onPress={() => setDoing("drive")}>Add a cloud drive …</Plain>
              </Allowed>
            </Row>
          )}
        </Allowed>
        {doing === "store" && <AddStore key={one.name} machine={one} kinds={known?.kinds ?? []} leave={stop} />}
        {doing === "drive" && <AddDrive key={one.name} machine={one} kinds={known?.kinds ?? []} leave={stop} />}
        <h2>Sources</h2>
        <Sources sources={one.sources} kinds={known?.kinds ?? []} />
        <Persons machine={one.name} />
        {held(one, data.machines).length > 0 && (
          <>
            <h2>Sources of other machines that it holds</h2>
            <ul>
              {held(one, data.machines).map((s) => (
                <li key={s.id}>
                  <Mono>{s.id}</Mono> {s.kind} of <Link to={`/machines/${s.machine}`}>{s.machine}</Link> at {s.at}
                </li>
              ))}
            </ul>
          </>
        )}
      </Pane>
    </Columns>
  );
}

/** The sources of other machines whose location is on this one. */
function held(m: Schemas["Machine"], all: Schemas["Machine"][]) {
  return all.filter((other) => other !== m).flatMap((other) => other.sources.filter((s) => s.at_machine === m.name));
}

function sourcesOf(n: number) {
  return n === 1 ? "1 source" : `${n} sources`;
}
