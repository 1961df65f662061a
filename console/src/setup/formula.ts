// What the formula editor knows of formulas: their words for completion and
// their look. Faults and values come from the service.
import type { CompletionContext, CompletionResult } from '@codemirror/autocomplete'
import { StreamLanguage } from '@codemirror/language'

import type { Schemas } from '../api/client'

/** CEL is small enough to be coloured word by word. */
export const cel = StreamLanguage.define<null>({
  startState: () => null,
  token(stream) {
    if (stream.match(/^"(?:[^"\\]|\\.)*"?/) || stream.match(/^'(?:[^'\\]|\\.)*'?/)) return 'string'
    if (stream.match(/^\d+(?:\.\d+)?/)) return 'number'
    if (stream.match(/^(?:true|false|null|in)\b/)) return 'keyword'
    if (stream.match(/^[A-Za-z_]\w*(?=\()/)) return 'variableName.function'
    if (stream.match(/^[A-Za-z_]\w*/)) return 'variableName'
    if (stream.match(/^[?:&|!=<>+\-*/%]+/)) return 'operator'
    stream.next()
    return null
  },
})

/** Words that the library of formulas has no line for. */
const methods = [
  'lowerAscii()',
  'upperAscii()',
  'trim()',
  'replace("", "")',
  'split("")',
  'join("")',
  'substring(0, 1)',
  'startsWith("")',
  'endsWith("")',
  'contains("")',
  'matches("")',
  'size()',
]

/** Completes attributes after "entry." and "all.", methods after another point, and else functions. */
export function complete(functions: Schemas['FormulaFunction'][], attributes: string[]) {
  return (context: CompletionContext): CompletionResult | null => {
    const attribute = context.matchBefore(/\b(?:entry|all)\.\w*/)
    if (attribute) {
      return {
        from: attribute.from + attribute.text.indexOf('.') + 1,
        options: attributes.map((label) => ({ label, type: 'property' })),
        validFor: /^\w*$/,
      }
    }
    const method = context.matchBefore(/[\w)\]"']\.\w*/)
    if (method) {
      return {
        from: method.from + method.text.lastIndexOf('.') + 1,
        options: methods.map((label) => ({ label, type: 'method' })),
        validFor: /^\w*$/,
      }
    }
    const word = context.matchBefore(/\w+/)
    if (!word && !context.explicit) return null
    return { from: word?.from ?? context.pos, options: words(functions), validFor: /^\w*$/ }
  }
}

/** The functions as they are typed: without the names of their arguments. */
export function words(functions: Schemas['FormulaFunction'][]): { label: string; type: string; detail: string }[] {
  return functions.map((f) => ({
    label: f.name
      .replace('NAME', '')
      .replace(/\(([^)]*)\)/, (_, inside: string) => (inside.startsWith('entry.') ? '(entry.' : '(')),
    type: f.name.includes('(') ? 'function' : 'variable',
    detail: f.does,
  }))
}

/** Where a fault stands in the text, from its line and column, both 1-based. */
export function place(text: string, line: number, column: number): number {
  const lines = text.split('\n')
  let at = 0
  for (let i = 0; i < Math.min(line - 1, lines.length); i++) at += (lines[i]?.length ?? 0) + 1
  return Math.min(at + Math.max(0, column - 1), text.length)
}
