// Whether the catalogues have every text of the console, and none that it has no more. Those
// of the catalogue of problems stand in them, too; a test of the service looks after them.
import { readdirSync, readFileSync } from 'node:fs'

import { describe, expect, it } from 'vitest'

import { textsOf, textsOfCode } from '../../texts'
import de from './de.json'
import nb from './nb.json'

const files = readdirSync('src', { recursive: true, encoding: 'utf8' })
  .filter((file) => /\.(vue|ts)$/.test(file) && !/\.test\.ts$|schema\.d\.ts$|^testing/.test(file))
  .map((file) => `src/${file}`)
const texts = new Set(
  files.flatMap((file) => {
    const text = readFileSync(file, 'utf8')
    return [...textsOfCode(text), ...(file.endsWith('.vue') ? textsOf(text) : [])]
  }),
)
const problems = new Set(
  [...readFileSync('../core/problem/catalogue.go', 'utf8').matchAll(/"((?:[^"\\]|\\.)*)"/g)].map((m) => m[1]),
)
const places = (text: string) => (text.match(/\{\d+\}/g) ?? []).sort()

describe.each(Object.entries({ de, nb } as Record<string, Record<string, string>>))(
  'the catalogue %s',
  (_, catalogue) => {
    it('has every text', () => {
      expect(texts.size).toBeGreaterThan(1500)
      expect([...texts].filter((text) => !catalogue[text])).toEqual([])
    })
    it('has none that nobody asks for', () => {
      expect(Object.keys(catalogue).filter((text) => !texts.has(text) && !problems.has(text))).toEqual([])
    })
    it('has the values of each text in it, and the spaces around it', () => {
      const wrong = Object.entries(catalogue).filter(
        ([text, other]) =>
          places(text).join() !== places(other).join() ||
          /^[ ,]/.test(text) !== /^[ ,]/.test(other) ||
          / $/.test(text) !== / $/.test(other),
      )
      expect(wrong).toEqual([])
    })
  },
)
