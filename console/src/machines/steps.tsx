import { useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { ask, client, Problem, type Schemas } from "../api/client";
import { Sentences } from "../cases/cases.styles";
import { Failure } from "../parts/Notice";

/** One thing after the other, each with what came of it; the first that fails ends it. */
export function useSteps() {
  const queries = useQueryClient();
  const [said, setSaid] = useState<string[]>([]);
  const [problem, setProblem] = useState<Problem>();
  const [busy, setBusy] = useState(false);
  const run = async (steps: ((say: (text: string) => void) => Promise<void>)[]) => {
    setSaid([]);
    setProblem(undefined);
    setBusy(true);
    try {
      for (const step of steps) await step((text) => setSaid((all) => [...all, text]));
      return true;
    } catch (e) {
      if (!(e instanceof Problem)) throw e;
      setProblem(e);
      return false;
    } finally {
      setBusy(false);
      void queries.invalidateQueries({ queryKey: ["machines"] });
    }
  };
  return { said, problem, busy, run };
}

/** Adds a source, says what it turned out to be, and begins to survey it. */
export const addSource = (body: Schemas["NewSource"]) => async (say: (text: string) => void) => {
  const added = await ask(client.POST("/sources", { body }));
  say(`Added as ${added.id}.`);
  added.notes?.forEach(say);
  await ask(client.POST("/surveys", { body: { source: added.id } }));
  say("Its survey has begun; the desk shows how far it is.");
};

/** What the steps came to. */
export function Said({ said, problem, done }: { said: string[]; problem: Problem | undefined; done: boolean }) {
  return (
    <div role="status">
      {said.length > 0 && (
        <Sentences>
          {said.map((s) => (
            <li key={s}>{s}</li>
          ))}
        </Sentences>
      )}
      {problem && <Failure problem={problem} />}
      {done && <Link to="/">To the desk</Link>}
    </div>
  );
}
