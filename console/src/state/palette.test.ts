import { readdirSync, readFileSync } from 'node:fs'
import { join } from 'node:path'

import { describe, expect, it } from 'vitest'

import { day, night, variables } from './palette'

const sources = readdirSync('src', { recursive: true, encoding: 'utf8' })
  .filter((name) => /\.(vue|css|ts)$/.test(name) && !/palette|\.test\.ts$|schema\.d\.ts$/.test(name))
  .map((name) => ({ name, text: readFileSync(join('src', name), 'utf8') }))

/** The share of light that a colour gives back (WCAG 2.2, relative luminance). */
function luminance(colour: string): number {
  const [r, g, b] = [1, 3, 5]
    .map((at) => parseInt(colour.slice(at, at + 2), 16) / 255)
    .map((c) => (c <= 0.04045 ? c / 12.92 : ((c + 0.055) / 1.055) ** 2.4)) as [number, number, number]
  return 0.2126 * r + 0.7152 * g + 0.0722 * b
}
const contrast = (a: string, b: string) => {
  const [low, high] = [luminance(a), luminance(b)].sort((x, y) => x - y) as [number, number]
  return (high + 0.05) / (low + 0.05)
}

describe('palette', () => {
  it('is the one place of colours', () => {
    const loose = sources
      .filter(({ text }) => /(:|\s|')(#[0-9a-fA-F]{3,8}\b|rgba?\()/.test(text))
      .map(({ name }) => name)
    expect(loose).toEqual([])
  })
  it('has every variable that style sheets use', () => {
    const own = sources.flatMap(({ text }) => [...text.matchAll(/(--[a-z0-9-]+)'?:/g)].map(([, name]) => name))
    const known = new Set([...Object.keys(variables(day)), ...own])
    for (const { name, text } of sources)
      for (const [, used] of text.matchAll(/var\((--[a-z0-9-]+)/g)) expect(known, `${used} in ${name}`).toContain(used)
  })
  it.each([
    ['day', day],
    ['night', night],
  ])('can be read by %s', (_, p) => {
    for (const ink of [p.ink, p.ink2, p.ink3, p.good, p.warn, p.bad, p.accent])
      for (const ground of [p.sheet, p.paper]) expect(contrast(ink, ground), `${ink} on ${ground}`).toBeGreaterThan(4.5)
    expect(contrast(p.railInk, p.rail)).toBeGreaterThan(7)
  })
})
