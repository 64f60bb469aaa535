import { useQuery } from "@tanstack/react-query";
import { screen, waitFor } from "@testing-library/react";
import { expect, test } from "vitest";
import { drawn, events } from "../served.test-world";
import { machines } from "./queries";
import { useChanges } from "./useChanges";

function Names() {
  useChanges();
  const { data } = useQuery(machines);
  return <p>{data?.machines.map((m) => m.name).join(" ")}</p>;
}

test("what somebody else changed is shown without being asked for, and asked once however often it changed", async () => {
  const stream = events();
  const names = ["loft"];
  const { asked } = drawn(<Names />, { "GET /machines": () => ({ machines: names.map((name) => ({ name })) }) });
  await screen.findByText("loft");
  names.push("slip");
  for (const kind of ["machine", "source", "source"]) stream.tell("/api/v1/events", { kind, id: "slip" });
  await screen.findByText("loft slip");
  stream.tell("/api/v1/events", { kind: "case", id: "k1" });
  await new Promise((r) => setTimeout(r, 700));
  await waitFor(() => expect(asked.filter((q) => q.call === "GET /machines")).toHaveLength(2));
});
