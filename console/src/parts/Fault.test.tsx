import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { Link, MemoryRouter } from "react-router";
import { afterEach, expect, it, vi } from "vitest";
import { Faultless } from "./Fault";

afterEach(cleanup);

it("a page's fault leaves the others reachable, and the page can be shown again", async () => {
  const said = vi.spyOn(console, "error").mockImplementation(() => undefined);
  let broken = true;
  function Page() {
    if (broken) throw new Error("no lanes");
    return <p>the trail</p>;
  }
  render(
    <MemoryRouter>
      <Link to="/find">Find</Link>
      <Faultless>
        <Page />
      </Faultless>
    </MemoryRouter>,
  );
  expect(screen.getByRole("alert").textContent).toContain("no lanes");
  await userEvent.click(screen.getByText("Show it again"));
  expect(screen.getByRole("alert")).toBeTruthy();
  broken = false;
  await userEvent.click(screen.getByText("Find"));
  expect(screen.getByText("the trail")).toBeTruthy();
  said.mockRestore();
});
