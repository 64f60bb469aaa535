import { render, screen } from "@testing-library/react";
import { expect, test } from "vitest";
import { Intact, meaning } from "./Intact";

test("the share is drawn as it is, and said", () => {
  const { container } = render(<Intact intact={{ state: "in-part", share: 0.375 }} />);
  expect(container.querySelector<HTMLElement>("[aria-hidden] > span")?.style.width).toBe("37.5%");
  expect(screen.getByText(/37\.5 % of its blocks are still its own/)).toBeTruthy();
});

test("blocks that hold something else are not called given away", () => {
  expect(meaning("in-part", 0)).toContain("likely something else");
  expect(meaning("in-part", 0.1)).toContain("given to others");
});
