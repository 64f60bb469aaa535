import styled from "styled-components";
import { Broken } from "./Broken";
import { DeletedLately } from "./DeletedLately";
import { ExpiresSoon } from "./ExpiresSoon";
import { OpenCases } from "./OpenCases";
import { People } from "./People";
import { Records } from "./Records";
import { Surveys } from "./Surveys";

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr);
  gap: 16px;
  padding: 16px 20px;
  align-items: start;
  @media (max-width: 900px) { grid-template-columns: minmax(0, 1fr); }
`;

const Stack = styled.div`
  display: grid;
  gap: 16px;
`;

export function DeskPage() {
  return (
    <Page>
      <Stack>
        <Records />
        <OpenCases />
        <DeletedLately />
      </Stack>
      <Stack>
        <Broken />
        <ExpiresSoon />
        <Surveys />
        <People />
      </Stack>
    </Page>
  );
}
