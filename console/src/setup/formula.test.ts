import { CompletionContext } from '@codemirror/autocomplete'
import { EditorState } from '@codemirror/state'
import { expect, test } from 'vitest'

import { complete, place, words } from './formula'

const functions = [
  { name: 'ascii(text)', does: 'letters without their marks', example: '', gives: '' },
  { name: 'entry.NAME', does: 'the first value', example: '', gives: '' },
  { name: 'has(entry.NAME)', does: 'whether there is a value', example: '', gives: '' },
]
const at = (text: string) =>
  complete(functions, ['cn', 'title'])(new CompletionContext(EditorState.create({ doc: text }), text.length, false))

test('after entry. the attributes are offered', () => {
  const found = at('ascii(entry.ti')
  expect(found?.from).toBe('ascii(entry.'.length)
  expect(found?.options.map((o) => o.label)).toEqual(['cn', 'title'])
})

test('after a value its methods are offered', () => {
  expect(at('entry.cn.lo')?.options.map((o) => o.label)).toContain('lowerAscii()')
})

test('a word is completed to a function, with nothing between the brackets', () => {
  expect(at('as')?.options[0]?.label).toBe('ascii(')
  expect(words(functions).map((w) => w.label)).toEqual(['ascii(', 'entry.', 'has(entry.'])
  expect(at('')).toBeNull()
})

test('a fault has its place also on a later line', () => {
  expect(place('a +\nb c', 2, 3)).toBe(6)
  expect(place('a', 9, 9)).toBe(1)
})
