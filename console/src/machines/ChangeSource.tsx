import { useState } from "react";
import { ask, client, type Schemas } from "../api/client";
import { Form } from "../cases/cases.styles";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Said, useSteps } from "./steps";

type Source = Schemas["Source"];

interface Props {
  source: Source;
  kind: Schemas["Kind"] | undefined;
  leave: () => void;
}

const lines = (text: string) =>
  text
    .split("\n")
    .map((line) => line.trim())
    .filter(Boolean);

/** What is asked of a source, as text. */
const told = (s: Source) => ({
  at: s.at_machine === s.machine ? s.at : `${s.at_machine}:${s.at}`,
  named: s.named ?? "",
  exclusions: (s.exclusions ?? []).join("\n"),
  zone: s.zone ?? "",
  maps: (s.maps ?? []).join("\n"),
  days: String(s.retention_days),
});

/** What differs of what is asked. */
export function changesOf(source: Source, given: ReturnType<typeof told>, options: Record<string, string>): Schemas["SourceChanges"] {
  const before = told(source);
  const changes: Schemas["SourceChanges"] = {};
  if (given.at.trim() !== before.at) changes.at = given.at.trim();
  if (given.named.trim() !== before.named) changes.named = given.named.trim();
  if (given.zone.trim() !== before.zone) changes.zone = given.zone.trim();
  if (given.exclusions !== before.exclusions) changes.exclusions = lines(given.exclusions);
  if (given.maps !== before.maps) changes.maps = lines(given.maps);
  if (given.days.trim() !== before.days) changes.retention_days = Number(given.days);
  const same = (a: Record<string, string>, b: Record<string, string>) =>
    [...Object.keys(a), ...Object.keys(b)].every((k) => (a[k] ?? "") === (b[k] ?? ""));
  if (!same(options, source.options ?? {}))
    changes.options = Object.fromEntries(Object.entries(options).filter(([, value]) => value !== ""));
  return changes;
}

/** Changes where a source is and how it is read. Its copies stay known, but for points in time that are read otherwise. */
export function ChangeSource({ source, kind, leave }: Props) {
  const [given, setGiven] = useState(told(source));
  const [options, setOptions] = useState<Record<string, string>>(source.options ?? {});
  const steps = useSteps();
  const changes = changesOf(source, given, options);
  const ready = Object.keys(changes).length > 0 && given.at.trim() !== "" && /^\d+$/.test(given.days.trim());
  const field = (name: keyof typeof given) => ({
    value: given[name],
    onChange: (e: React.ChangeEvent<HTMLInputElement | HTMLTextAreaElement>) => setGiven({ ...given, [name]: e.target.value }),
  });
  const submit = (e: React.FormEvent) => {
    e.preventDefault();
    if (!ready || steps.busy) return;
    void steps.run([
      async (say) => {
        const changed = await ask(client.PATCH("/sources/{id}", { params: { path: { id: source.id } }, body: changes }));
        say(`${source.id} is changed.`);
        changed.notes?.forEach(say);
        if (changed.renew) say("It is read otherwise from now on: its points in time are read anew.");
        await ask(client.POST("/surveys", { body: { source: source.id } }));
        say("Its survey has begun; the desk shows how far it is.");
      },
    ]);
  };
  const dated = kind?.shape === "points" || kind?.shape === "versions";
  return (
    <Form onSubmit={submit} aria-label={`Change ${source.id}`}>
      <label>
        Where is it now?
        <input autoFocus {...field("at")} />
        <Quiet>A path on {source.machine}, or other-machine:/path. It is looked at before anything is changed.</Quiet>
      </label>
      <label>
        Which folder in it stands for which?
        <textarea rows={Math.max(1, lines(given.maps).length)} placeholder="/inside=/home/…" {...field("maps")} />
        <Quiet>One a line.</Quiet>
      </label>
      <label>
        What is left out?
        <textarea rows={Math.max(1, lines(given.exclusions).length)} placeholder="*.tmp" {...field("exclusions")} />
        <Quiet>Patterns of names, or of paths where they hold a slash; one a line.</Quiet>
      </label>
      {dated && (
        <Row>
          <label>
            How are its points in time named?
            <input placeholder="%Y-%m-%dT%H%M" {...field("named")} />
          </label>
          <label>
            In which zone?
            <input placeholder="that of the machine" {...field("zone")} />
          </label>
        </Row>
      )}
      <label>
        After how many days does it remove what was thrown away?
        <input inputMode="numeric" {...field("days")} />
        <Quiet>0: never.</Quiet>
      </label>
      {kind?.options.map((o) => (
        <label key={o.name}>
          {o.name}
          <input value={options[o.name] ?? ""} onChange={(e) => setOptions({ ...options, [o.name]: e.target.value })} />
          <Quiet>{o.says}</Quiet>
        </label>
      ))}
      <Row>
        <Primary type="submit" isDisabled={!ready || steps.busy}>
          Look at it and change it
        </Primary>
        <Plain onPress={leave}>{steps.said.length > 0 ? "Done" : "Not now"}</Plain>
      </Row>
      <Said {...steps} done={steps.said.length > 0 && !steps.problem && !steps.busy} />
    </Form>
  );
}
