import { useQuery } from "@tanstack/react-query";
import { lazy, Suspense } from "react";
import { Navigate, Route, Routes } from "react-router";
import styled from "styled-components";
import { session } from "./api/queries";
import { useChanges } from "./api/useChanges";
import { CasePage } from "./cases/CasePage";
import { CasesPage } from "./cases/CasesPage";
import { ChangeCasePage, NewCasePage } from "./cases/NewCasePage";
import { DeskPage } from "./desk/DeskPage";
import { FindPage } from "./find/FindPage";
import { Band } from "./parts/Band";
import { Faultless } from "./parts/Fault";
import { Notice } from "./parts/Notice";
import { Tray } from "./parts/Tray";
import { ReceiptsPage } from "./receipts/ReceiptsPage";
import { SelectionProvider } from "./selection";
import { SignInPage } from "./signin/SignInPage";

// With their tables they are the larger part of the console, and nobody begins there.
const FolderPage = lazy(async () => ({ default: (await import("./folder/FolderPage")).FolderPage }));
const MachinesPage = lazy(async () => ({ default: (await import("./machines/MachinesPage")).MachinesPage }));
const TrailPage = lazy(async () => ({ default: (await import("./trail/TrailPage")).TrailPage }));

const Frame = styled.div`
  display: grid;
  grid-template-rows: auto minmax(0, 1fr) auto;
  height: 100%;
  overflow: hidden;
  @media (max-width: 900px) { height: auto; min-height: 100%; overflow: visible; }
`;

const Main = styled.main`
  overflow: auto;
  min-height: 0;
`;

export function App() {
  const { data, error, isPending } = useQuery(session);
  if (isPending) return null;
  if (!data) return <SignInPage why={error} />;
  return <SignedIn technician={data.technician} />;
}

function SignedIn({ technician }: { technician: string }) {
  useChanges();
  return (
    <SelectionProvider>
      <Frame>
        <Band technician={technician} />
        <Main>
          <Faultless>
            <Suspense fallback={<Notice title="Reading the page …" />}>
              <Routes>
                <Route path="/" element={<DeskPage />} />
                <Route path="/find" element={<FindPage />} />
                <Route path="/trail" element={<TrailPage />} />
                <Route path="/folder" element={<FolderPage />} />
                <Route path="/cases" element={<CasesPage />} />
                <Route path="/cases/new" element={<NewCasePage />} />
                <Route path="/cases/:id/change" element={<ChangeCasePage />} />
                <Route path="/cases/:id" element={<CasePage />} />
                <Route path="/machines" element={<MachinesPage />} />
                <Route path="/machines/:name" element={<MachinesPage />} />
                <Route path="/receipts" element={<ReceiptsPage />} />
                <Route path="/receipts/:id" element={<ReceiptsPage />} />
                <Route path="*" element={<Navigate to="/" replace />} />
              </Routes>
            </Suspense>
          </Faultless>
        </Main>
        <Tray />
      </Frame>
    </SelectionProvider>
  );
}
