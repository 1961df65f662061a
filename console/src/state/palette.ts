// All colours of the console, by what they are for: of the light look and of the
// dark one. Style sheets have them as variables (--ink, --sheet-head), Naive UI as its
// theme.
export const day = {
  ink: '#1d2526',
  ink1: '#1d2526',
  ink2: '#344041',
  ink3: '#5f6b6c',
  paper: '#f5f3ee',
  sheet: '#fffefb',
  sheetHead: '#f1eee6',
  sheetRaised: '#fffefb',
  sheetHover: '#f8f6f0',
  field: '#fffefb',
  line: '#ddd8cc',
  lineThin: '#e6e2d8',
  rail: '#12383b',
  railInk: '#d9e6e3',
  railHere: '#ffffff',
  railLit: 'rgb(255 255 255 / 11%)',
  railHover: 'rgb(255 255 255 / 7%)',
  accent: '#17595c',
  accentHover: '#1f7276',
  accentPressed: '#104346',
  brass: '#e3a948',
  onBrass: '#1d2526',
  good: '#2f7a4d',
  warn: '#8d5708',
  bad: '#b23a2e',
  info: '#3c6390',
  added: '#e4f1e6',
  taken: '#f8e6e2',
}

export type Palette = typeof day

export const night: Palette = {
  ...day,
  ink: '#e9ecea',
  ink1: '#eef1ef',
  ink2: '#cdd5d3',
  ink3: '#98a5a4',
  paper: '#14191a',
  sheet: '#1b2223',
  sheetHead: '#222b2c',
  sheetRaised: '#222b2c',
  sheetHover: '#222b2c',
  field: '#171d1e',
  line: '#324041',
  lineThin: '#2a3536',
  rail: '#0d2224',
  railInk: '#c4d5d2',
  accent: '#62b6b3',
  accentHover: '#7fc9c6',
  accentPressed: '#4a9c99',
  good: '#6fbd8b',
  warn: '#e0a84e',
  bad: '#e67f72',
  info: '#86aede',
  added: '#20352a',
  taken: '#3a2624',
}

/** The palette as variables of style sheets: sheetHead is --sheet-head, ink2 is --ink-2. */
export function variables(palette: Palette): Record<string, string> {
  return Object.fromEntries(
    Object.entries(palette).map(([name, colour]) => [
      '--' + name.replace(/[A-Z]|\d+/g, (part) => '-' + part.toLowerCase()),
      colour,
    ]),
  )
}
