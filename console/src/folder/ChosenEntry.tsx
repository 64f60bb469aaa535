import { Link } from "react-router";
import type { FolderEntry, FolderRow } from "../api/client";
import { Mono, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Notice } from "../parts/Notice";
import { Peek } from "../parts/Peek";
import { folderLink, trailLink } from "../places";
import { absolute, bytes, counted } from "../when";

/** What an entry is as of the moment, and a look at it. */
export function ChosenEntry({ entry: e, asOf }: { entry: FolderEntry; asOf: string | undefined }) {
  return (
    <article aria-label={e.name}>
      <h1>{e.name}</h1>
      <p>
        {sentences[e.state]}
        {e.moved_to && ` It is now ${e.moved_to}.`} {!e.proved && asOf && "Assumed: nobody looked between."}
      </p>
      {e.sealed && (
        <p>
          It only makes sense whole: it is {e.sealed.why}. {counted(e.sealed.files ?? 0, "file", "files")}, {bytes(e.sealed.size)}.
        </p>
      )}
      {e.type !== "folder" && (
        <p>
          <Quiet>
            {bytes(e.size)} {e.written_at && `· written ${absolute(e.written_at)}`} {e.copy && <Mono>· {e.copy}</Mono>}
          </Quiet>
        </p>
      )}
      <Row>
        <Link to={e.type === "folder" ? folderLink(e.path, asOf) : trailLink(e.path)}>
          {e.type === "folder" ? "Open the folder" : "Trail"}
        </Link>
      </Row>
      {e.copy && e.type !== "folder" && <Peek key={e.copy} id={e.copy} />}
      {!e.copy && e.state !== "added" && <Notice title="Only the record of it is left." />}
    </article>
  );
}

const sentences: Record<FolderEntry["state"], string> = {
  same: "It is there, unchanged.",
  changed: "Something else is there now.",
  missing: "It is no longer there now.",
  added: "It was not there at that moment.",
  moved: "It is elsewhere now.",
};

/** An entry of another moment. */
export function NotThen({ row }: { row: FolderRow }) {
  return (
    <Notice title={`${row.name} was not there at that moment, and is not there now.`}>
      <Link to={trailLink(row.path)}>Trail</Link> says when it was.
    </Notice>
  );
}
