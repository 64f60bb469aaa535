import { ErrorBoundary } from "react-error-boundary";
import type { ReactNode } from "react";
import { useLocation } from "react-router";
import { Plain } from "./controls";
import { Notice } from "./Notice";

/** Keeps a fault of one page from taking the others with it, and says what can be done. */
export function Faultless({ children }: { children: ReactNode }) {
  const { pathname, search } = useLocation();
  return (
    <ErrorBoundary
      resetKeys={[pathname, search]}
      fallbackRender={({ error, resetErrorBoundary }) => <Fault error={error} again={resetErrorBoundary} />}
    >
      {children}
    </ErrorBoundary>
  );
}

function Fault({ error, again }: { error: unknown; again: () => void }) {
  return (
    <div role="alert">
      <Notice title="This page met a fault of the program.">
        Nothing was changed by it. Show it again, or go on elsewhere; the command line does the same work. What it says of itself:{" "}
        {error instanceof Error ? error.message : String(error)}
      </Notice>
      <Plain onPress={again}>Show it again</Plain>
    </div>
  );
}
