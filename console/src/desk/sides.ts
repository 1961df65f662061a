// Both sides of a problem next to each other. Pure, so that it is tested without a page.
import type { ObjectView, Schemas } from '../api/client'
import { show } from '../parts/words'
import { t } from '../state/language'

const mostSides = 3

/** The ids of the objects that a problem is about: the one that has it, then those that
 * stand in its way, or that it may be the same with. */
export function sidesOf(
  problem: Pick<Schemas['Problem'], 'entryId' | 'resourceId'> & { facts: Schemas['Facts'] },
): string[] {
  const ids = [
    problem.entryId,
    ...(problem.facts.entries ?? []).map((e) => e.id),
    ...(problem.facts.resources ?? []).map((r) => r.id).filter((id) => id !== problem.resourceId),
  ]
  return [...new Set(ids.filter((id): id is string => Boolean(id)))].slice(0, mostSides)
}

type Facts = Record<string, string>

const first = (values: string[] | null | undefined) => values?.[0] ?? ''

function factsOf(side: ObjectView): Facts {
  const entry = side.entry
  const a = (entry?.attributes ?? {}) as Record<string, string[]>
  const r = (side.resource ?? {}) as Record<string, unknown>
  const values = (list: unknown) => ((list ?? []) as { value?: string }[]).map((m) => m.value ?? '').join(', ')
  return {
    [t('Entry')]: entry ? entry.dn : '',
    [t('Directory')]: entry ? entry.directory + (entry.gone ? t(', deleted there') : '') : '',
    [t('Login')]: first(a.userPrincipalName) || first(a.uid),
    [t('Name')]: first(a.displayName) || first(a.cn),
    [t('Addresses')]: [...(a.mail ?? []), ...(a.proxyAddresses ?? [])].join(', '),
    [t('Title')]: first(a.title),
    [t('Department')]: first(a.department) || first(a.departmentNumber),
    [t('Number')]: first(a.employeeID) || first(a.employeeNumber),
    [t('Resource')]: show(r.id),
    [t('Login in the cloud')]: show(r.userName),
    [t('Name in the cloud')]: show(r.displayName),
    [t('Addresses in the cloud')]: values(r.emails),
    [t('Roles')]: values(r.roles),
    [t('Active')]: r.active === undefined ? '' : r.active ? t('yes') : t('no'),
    [t('Stands')]: side.why.summary,
  }
}

/** Rows of facts, each with the value of every side; those in which the first value stands on
 * another side too, wherever there, are alike. */
export function sideFacts(sides: ObjectView[]): { name: string; values: string[]; alike: boolean }[] {
  const all = sides.map(factsOf)
  const mine = all[0]
  if (!mine) return []
  const elsewhere = new Set(
    all.slice(1).flatMap((facts) =>
      Object.entries(facts)
        .filter(([name]) => !unlike.has(name))
        .flatMap(([, value]) => value.toLowerCase().split(', ')),
    ),
  )
  return Object.keys(mine)
    .map((name) => ({
      name,
      values: all.map((facts) => facts[name] ?? ''),
      alike:
        !unlike.has(name) &&
        (mine[name] ?? '')
          .toLowerCase()
          .split(', ')
          .some((value) => value !== '' && elsewhere.has(value)),
    }))
    .filter((row) => row.values.some(Boolean))
}

// What says nothing when it is the same on both sides.
const unlike = new Set([t('Directory'), t('Active'), t('Stands'), t('Department'), t('Title')])
