// The console's looks in one place: a ship's log read at night. docs/looks.md says why.
// Components use these names alone; light and dark only change what the variables behind them hold.
import { createGlobalStyle } from "styled-components";

export const tokens = {
  ground: "var(--ground)", // the page
  sheet: "var(--sheet)", // what is read
  ink: "var(--ink)",
  quiet: "var(--quiet)", // text that steps back
  rule: "var(--rule)",
  faint: "var(--faint)",
  advice: "var(--advice)", // the one accent: the next thing to do
  onAdvice: "var(--on-advice)",
  care: "var(--care)", // time is running out, or something will give way
  text: '"Atkinson Hyperlegible Next Variable", system-ui, sans-serif',
  mono: '"Atkinson Hyperlegible Mono Variable", ui-monospace, monospace',
  corner: "3px",
  row: "36px",
} as const;

const light = `
  --ground: #f5f3ee; --sheet: #ffffff; --ink: #20262b; --quiet: #566069; --rule: #8c877b; --faint: #ddd8cd;
  --advice: #7a2e4d; --on-advice: #ffffff; --care: #7a4b00;`;

const dark = `
  --ground: #15191d; --sheet: #1d2328; --ink: #ece8e1; --quiet: #a9b0b6; --rule: #6f767d; --faint: #2e353b;
  --advice: #e79bb5; --on-advice: #15191d; --care: #e3b565;`;

export const GlobalStyle = createGlobalStyle`
  :root { ${light} color-scheme: light; }
  @media (prefers-color-scheme: dark) { :root { ${dark} color-scheme: dark; } }
  *, *::before, *::after { box-sizing: border-box; }
  html, body, #root { height: 100%; margin: 0; }
  body { background: ${tokens.ground}; color: ${tokens.ink}; font: 15px/22px ${tokens.text}; }
  h1, h2, h3, p, ul, ol, dl, dd, table { margin: 0; padding: 0; font-size: inherit; font-weight: inherit; }
  h1 { font-size: 20px; line-height: 28px; font-weight: 650; }
  h2 { font-weight: 650; }
  ul, ol { list-style: none; }
  a { color: inherit; text-underline-offset: 3px; }
  button, input, select { font: inherit; color: inherit; }
  input[type="checkbox"] { accent-color: ${tokens.ink}; }
  td, th { font-variant-numeric: tabular-nums; }
  :focus-visible, [data-focus-visible] { outline: 2px solid ${tokens.advice}; outline-offset: 1px; }
  @media (prefers-reduced-motion: reduce) { * { transition: none !important; animation: none !important; } }
`;
