import { cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it } from "vitest";
import { drawn, Refusal } from "../served.test-world";
import { Persons } from "./Persons";

afterEach(cleanup);

const at = (machine: string, name = "ines") => ({ machine, name, home: `/home/${name}` });
const why = [{ code: "same-name", text: "The accounts have the same name.", values: {} }];

it("asks about accounts of one name, and shows what was answered", async () => {
  let joined = false;
  const { asked } = drawn(<Persons machine="loft" />, {
    "GET /persons": () =>
      joined
        ? { persons: [{ id: "p1", name: "ines", accounts: [at("loft"), at("slip")] }], questions: [] }
        : {
            persons: [
              { id: "p1", name: "ines", accounts: [at("loft")] },
              { id: "p2", name: "ines", accounts: [at("slip")] },
            ],
            questions: [
              { one: at("loft"), other: at("slip"), why },
              { one: at("quay", "oda"), other: at("slip", "oda"), why },
            ],
          },
    "POST /persons/join": () => {
      joined = true;
      return { id: "p1", name: "ines", accounts: [at("loft"), at("slip")] };
    },
    "POST /persons/part": new Refusal(422, { title: "Could not say that", next: "List the persons." }),
  });
  expect(await screen.findByText("The accounts have the same name.")).toBeTruthy();
  expect(screen.queryByText(/oda/)).toBeNull();
  await userEvent.click(screen.getByRole("button", { name: "ines@loft and ines@slip are one person" }));
  expect(await screen.findByText("is ines@slip too")).toBeTruthy();
  expect(screen.queryByLabelText("Questions about people")).toBeNull();
  expect(asked.find((q) => q.call === "POST /persons/join")?.body).toMatchObject({ accounts: [{ machine: "loft" }, { machine: "slip" }] });
  await userEvent.click(screen.getByRole("button", { name: "ines@loft is somebody else" }));
  await waitFor(() => expect(screen.getByRole("alert").textContent).toMatch(/Could not say that/));
});
