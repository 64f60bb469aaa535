import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Dialog, Heading, Modal, ModalOverlay } from "react-aria-components";
import styled from "styled-components";
import { ask, client, type ClashRule, type Job } from "../api/client";
import { Failure } from "../parts/Notice";
import { tokens } from "../theme";
import { useRight } from "../useRight";
import { Carrying } from "./Carrying";
import { Choices, type Where } from "./Choices";
import { Planned } from "./Planned";
import { bodyOf, requestOf, titleOf, type Ask, type What } from "./what";

const Over = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  display: grid;
  place-items: center;
  background: rgb(0 0 0 / 45%);
  z-index: 10;
`;

const Box = styled(Modal)`
  width: min(860px, 94vw);
  max-height: 90vh;
  overflow: auto;
  background: ${tokens.sheet};
  border: 1px solid ${tokens.rule};
  border-radius: ${tokens.corner};
  section { padding: 20px 24px; outline: none; }
`;

/** Shows what bringing copies back would write, clashes settled, and carries it out once that is agreed. */
export function BringBackDialog({
  what,
  rule = "keep-both",
  close,
  done,
}: {
  what: What;
  rule?: ClashRule;
  close: () => void;
  done: () => void;
}) {
  const may = useRight("bring-back");
  const [clash, setClash] = useState<ClashRule>(rule);
  const [where, setWhere] = useState<Where>(null);
  const [confirmed, setConfirmed] = useState<Ask[]>([]);
  const begin = useMutation({
    mutationFn: () =>
      ask(
        client.POST("/bring-backs", { body: { ...requestOf(what), clash, dry_run: false, ...bodyOf(where, confirmed) } }),
      ) as Promise<Job>,
  });
  if (!may) return null;
  return (
    <Over isOpen isDismissable={!begin.isPending} onOpenChange={(open) => open || close()}>
      <Box>
        <Dialog>
          <Heading slot="title" level={1}>
            {titleOf(what)}
          </Heading>
          {begin.data ? (
            <Carrying job={begin.data} close={close} done={done} />
          ) : (
            <>
              <Choices clash={clash} setClash={setClash} setWhere={setWhere} />
              <Planned
                what={what}
                clash={clash}
                where={where}
                confirmed={confirmed}
                setConfirmed={setConfirmed}
                begin={() => begin.mutate()}
                busy={begin.isPending}
                close={close}
              />
              {begin.error && <Failure problem={begin.error} />}
            </>
          )}
        </Dialog>
      </Box>
    </Over>
  );
}
