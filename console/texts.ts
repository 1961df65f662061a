// The texts of templates: what stands in them between tags, and in attributes that people
// read. The compiler turns each into a text of the catalogue, so that templates stay plain.
import {
  createSimpleExpression,
  NodeTypes,
  type AttributeNode,
  type DirectiveNode,
  type InterpolationNode,
  type NodeTransform,
  type SourceLocation,
  type TemplateChildNode,
  type TextNode,
} from '@vue/compiler-core'
import { parse } from '@vue/compiler-sfc'

/** The attributes that people read. */
const read = new Set(['label', 'title', 'placeholder', 'aria-label', 'alt', 'text', 'what'])
/** What stands in these is typed or shown as it is. */
const verbatim = new Set(['code', 'pre', 'kbd', 'style', 'script'])
const words = /\p{L}{2}/u

type Written = TextNode | InterpolationNode
interface Message {
  text: string
  values: string[]
}

const isWritten = (node: TemplateChildNode): node is Written =>
  node.type === NodeTypes.TEXT || node.type === NodeTypes.INTERPOLATION

/** Texts and values that follow each other are one message; null where nothing of it is a text. */
function messageOf(run: Written[]): Message | null {
  const values: string[] = []
  const text = run
    .map((node) => (node.type === NodeTypes.TEXT ? node.content : `{${values.push(node.content.loc.source) - 1}}`))
    .join('')
  return words.test(text.replace(/\{\d+\}/g, '')) ? { text: text.replace(/\s+/g, ' '), values } : null
}

/** The runs of texts and values among the children of a node, with what stands between them. */
function runsOf(children: TemplateChildNode[]): (Written[] | TemplateChildNode)[] {
  const out: (Written[] | TemplateChildNode)[] = []
  for (const child of children) {
    const last = out.at(-1)
    if (!isWritten(child)) out.push(child)
    else if (Array.isArray(last)) last.push(child)
    else out.push([child])
  }
  return out
}

const translated = ({ text, values }: Message) => `$t(${[JSON.stringify(text), ...values].join(', ')})`

/** Lets the compiler translate what is within a node, before it comes to that; a space before
 * or after a message stays outside of it. */
export const translate: NodeTransform = (node) => {
  switch (node.type) {
    case NodeTypes.ELEMENT:
      if (verbatim.has(node.tag)) break
    // falls through
    case NodeTypes.ROOT:
    case NodeTypes.IF_BRANCH:
    case NodeTypes.FOR: // in their place, since a loop has the same list twice
      node.children.splice(0, node.children.length, ...within(node.children))
  }
}

const within = (children: TemplateChildNode[]): TemplateChildNode[] =>
  runsOf(children).flatMap((run) => {
    if (!Array.isArray(run)) {
      if (run.type === NodeTypes.ELEMENT && !verbatim.has(run.tag)) run.props = run.props.map(attribute)
      return [run]
    }
    const message = messageOf(run)
    if (!message) return run
    const { loc } = run[0] as Written
    const around = (space: RegExp): TemplateChildNode[] =>
      space.test(message.text) ? [{ type: NodeTypes.TEXT, content: ' ', loc }] : []
    const content = expression(translated({ ...message, text: message.text.trim() }), loc)
    return [...around(/^ /), { type: NodeTypes.INTERPOLATION, content, loc }, ...around(/ $/)]
  })

const attribute = (prop: AttributeNode | DirectiveNode): AttributeNode | DirectiveNode =>
  isRead(prop)
    ? {
        type: NodeTypes.DIRECTIVE,
        name: 'bind',
        arg: createSimpleExpression(prop.name, true, prop.nameLoc),
        exp: expression(translated({ text: prop.value.content, values: [] }), prop.value.loc),
        modifiers: [],
        loc: prop.loc,
      }
    : prop

const isRead = (prop: AttributeNode | DirectiveNode): prop is AttributeNode & { value: TextNode } =>
  prop.type === NodeTypes.ATTRIBUTE && read.has(prop.name) && words.test(prop.value?.content ?? '')

const expression = (code: string, loc: SourceLocation) => createSimpleExpression(code, false, { ...loc, source: code })

/** The texts of a component's template. */
export function textsOf(component: string): string[] {
  const texts: string[] = []
  const visit = (node: TemplateChildNode | { type: NodeTypes.ROOT; children: TemplateChildNode[] }): void => {
    if (node.type === NodeTypes.ELEMENT) {
      if (verbatim.has(node.tag)) return
      texts.push(...node.props.filter(isRead).map((prop) => prop.value.content))
    }
    if (node.type !== NodeTypes.ELEMENT && node.type !== NodeTypes.ROOT) return
    for (const run of runsOf(node.children)) {
      if (!Array.isArray(run)) visit(run)
      else {
        const message = messageOf(run)
        if (message) texts.push(message.text.trim())
      }
    }
  }
  const template = parse(component).descriptor.template?.ast
  if (template) visit(template as never)
  return texts
}

/** The texts that code asks for: the first of each call of t, and the nouns of count and counted. */
export function textsOfCode(code: string): string[] {
  const text = String.raw`('(?:[^'\\\n]|\\.)*'|"(?:[^"\\\n]|\\.)*")`
  const asked = new RegExp(String.raw`\bt\(\s*${text}`, 'g')
  const nouns = new RegExp(String.raw`\bcount(?:ed)?\((?:[^()'"]|\([^()]*\))*,\s*${text}(?:,\s*${text})?`, 'g')
  const unquoted = (quoted: string) => quoted.slice(1, -1).replace(/\\(.)/g, '$1')
  const out = [...code.matchAll(asked)].map((m) => unquoted(m[1] as string))
  for (const [, one, many] of code.matchAll(nouns)) {
    const word = unquoted(one as string)
    out.push(word, many ? unquoted(many) : `${word}s`)
  }
  return out
}
