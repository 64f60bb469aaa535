import { Fragment } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import type { Folder, Only, Place } from "../api/client";
import { Key, Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { folderLink, foldersAbove, nameOf } from "../places";
import { tokens } from "../theme";
import { Allowed } from "../useRight";
import { absolute, ago, counted } from "../when";

const told = (n: number) => n.toLocaleString("en-GB");

const Crumbs = styled.nav`
  overflow-wrap: anywhere;
  a { color: ${tokens.quiet}; }
`;

interface HeadProps {
  place: Place;
  folder: Folder;
  asOf: string | undefined;
  chosen: number;
  pick: (moment: number) => void;
}

/** Which folder it is, and as of which moment. */
export function FolderHead({ place, folder, asOf, chosen, pick }: HeadProps) {
  const moment = folder.moments[chosen];
  return (
    <>
      <Crumbs aria-label="Folders above">
        {place.machine}
        {foldersAbove(place).map((above) => (
          <Fragment key={above.path}>
            /<wbr />
            <Link to={folderLink(above, asOf)}>{nameOf(above)}</Link>
          </Fragment>
        ))}
        /
      </Crumbs>
      <h1>{nameOf(place)}</h1>
      {folder.was && <Quiet>It was {folder.was.path} before, and what was in that counts as in this.</Quiet>}
      {folder.sealed && (
        <p>
          {folder.sealed.place.path === place.path ? (
            "It"
          ) : (
            <Link to={folderLink(folder.sealed.place, asOf)}>{folder.sealed.place.path}</Link>
          )}{" "}
          is {folder.sealed.why}. One file of it alone cannot be opened: the folder comes back whole, beside what is there.
        </p>
      )}
      <Row>
        <Plain isDisabled={chosen === 0} onPress={() => pick(chosen - 1)} aria-label="Earlier moment">
          ←
        </Plain>
        <Plain isDisabled={!asOf} onPress={() => pick(chosen + 1)} aria-label="Later moment">
          →
        </Plain>
        <strong role="status">
          {asOf ? `As of ${absolute(asOf)}` : "Now"}
          {asOf && <Quiet> · {ago(asOf)}</Quiet>}
        </strong>
        <Quiet>
          {asOf && moment ? `${counted(moment.changed, "entry", "entries")} changed then · ` : ""}
          moment {Math.min(chosen + 1, folder.moments.length)} of {folder.moments.length}
        </Quiet>
      </Row>
    </>
  );
}

/** What can be brought back. The plan looks at what really stands there, so it is offered whatever the last survey saw. */
export function Actions({ folder, part, bring }: { folder: Folder; part: boolean; bring: (only: Only) => void }) {
  return (
    <>
      <p>
        Against now: {told(folder.missing)} missing, {told(folder.changed)} changed, {told(folder.moved)} moved, {told(folder.added)} came
        later, {told(folder.same)} the same
        {part ? `, among the first ${counted(folder.rows.length, "entry", "entries")}. Bringing back looks at all of them.` : "."}
      </p>
      <Allowed right="bring-back">
        <Row>
          <Primary onPress={() => bring("missing")}>
            {folder.sealed ? "Bring it back whole …" : "Bring back what is missing …"}
            <Key>m</Key>
          </Primary>
          {!folder.sealed && (
            <>
              <Plain onPress={() => bring("changed")}>Missing and changed …</Plain>
              <Plain onPress={() => bring("exact")}>Exactly as it was …</Plain>
            </>
          )}
        </Row>
      </Allowed>
    </>
  );
}
