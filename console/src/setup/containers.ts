// The marks of a directory's tree: the nearest one on the way up decides, and
// what lies below no mark is out.
import type { Schemas } from '../api/client'
import { t } from '../state/language'

export type Mark = 'include' | 'exclude'
export type Containers = Schemas['Containers']
export type Container = Schemas['Container']

/** A name in a form that can be compared: without regard to case and to spaces after commas. */
export const nameKey = (dn: string): string =>
  dn
    .toLowerCase()
    .replace(/\s*,\s*/g, ',')
    .replace(/\s*=\s*/g, '=')
    .trim()

export function marksOf(containers: Containers): Map<string, Mark> {
  const marks = new Map<string, Mark>()
  for (const dn of containers.include ?? []) marks.set(nameKey(dn), 'include')
  for (const dn of containers.exclude ?? []) marks.set(nameKey(dn), 'exclude')
  return marks
}

export interface Row {
  node: Container
  at: number
  depth: number
  mark?: Mark
  state?: Mark
  mixed: boolean
  children: number
}

/** The tree with the marks given, parents first; mixed says that something below is decided otherwise. */
export function rowsOf(nodes: Container[], marks: Map<string, Mark>): Row[] {
  const rows: Row[] = nodes.map((node, at) => ({
    node,
    at,
    depth: 0,
    mixed: false,
    children: 0,
    mark: marks.get(nameKey(node.dn)),
  }))
  for (const row of rows) {
    const parent = rows[row.node.parent]
    row.depth = parent ? parent.depth + 1 : 0
    row.state = row.mark ?? parent?.state
    if (parent) parent.children++
  }
  for (const row of [...rows].reverse()) {
    const parent = rows[row.node.parent]
    if (
      parent &&
      (row.mixed || row.state !== parent.state) &&
      !(row.state !== 'include' && parent.state !== 'include' && !row.mixed)
    )
      parent.mixed = true
  }
  return rows
}

/** The containers after a click on a row: it takes part when it did not, and the other way round. */
export function toggled(containers: Containers, row: Row, parentState: Mark | undefined): Containers {
  const wanted: Mark = row.state === 'include' ? 'exclude' : 'include'
  const without = (list: string[] | undefined) => (list ?? []).filter((dn) => nameKey(dn) !== nameKey(row.node.dn))
  const next = { include: without(containers.include), exclude: without(containers.exclude) }
  const inherited = parentState === 'include' ? 'include' : 'exclude'
  if (wanted !== inherited) next[wanted].push(row.node.dn)
  return next
}

/** Marks pasted names; what is no distinguished name is returned with its line. */
export function pasted(containers: Containers, text: string, mark: Mark): { next: Containers; wrong: string[] } {
  const next = { include: [...(containers.include ?? [])], exclude: [...(containers.exclude ?? [])] }
  const wrong: string[] = []
  text.split('\n').forEach((line, i) => {
    const dn = line.trim()
    if (!dn) return
    if (!/^[A-Za-z0-9.-]+\s*=[^,]+(,\s*[A-Za-z0-9.-]+\s*=.+)*$/.test(dn)) {
      wrong.push(t('line {0}: “{1}” is no distinguished name', i + 1, dn))
      return
    }
    for (const list of ['include', 'exclude'] as const)
      next[list] = next[list].filter((have) => nameKey(have) !== nameKey(dn))
    next[mark].push(dn)
  })
  return { next, wrong }
}
