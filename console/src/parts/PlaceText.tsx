import { Fragment } from "react";
import styled from "styled-components";
import type { Place } from "../api/client";
import { tokens } from "../theme";

const Machine = styled.span`
  border: 1px solid ${tokens.rule};
  border-radius: ${tokens.corner};
  padding: 0 5px;
  margin-right: 6px;
  font-size: 13px;
  color: ${tokens.quiet};
  white-space: nowrap;
`;

const Folders = styled.span`
  color: ${tokens.quiet};
`;

const Path = styled.span`
  overflow-wrap: anywhere;
`;

/** A place: the machine as a label, the folders quiet, the name in ink, broken at slashes where it must be. */
export function PlaceText({ place, name = true }: { place: Place; name?: boolean }) {
  const cut = place.path.lastIndexOf("/") + 1;
  return (
    <Path>
      <Machine>{place.machine}</Machine>
      <Folders>
        {place.path
          .slice(0, cut)
          .split("/")
          .slice(0, -1)
          .map((part, i) => (
            <Fragment key={i}>
              {part}/<wbr />
            </Fragment>
          ))}
      </Folders>
      {name && place.path.slice(cut)}
    </Path>
  );
}
