// What a search over everything found, as places of the console.
import type { RouteLocationRaw } from 'vue-router'

import type { Schemas } from '../api/client'
import { t } from '../state/language'
import { fits, placeOfPage, type Page } from './pages'
import { placeOf } from './places'
import { count, objectWord, type Tone } from './words'

type Found = Schemas['Found']

export interface Find {
  key: string
  name: string
  more: string
  sort: string
  state?: { text: string; tone: Tone }
  to?: RouteLocationRaw
  /** What is done instead of going somewhere. */
  act?: () => unknown
}

/** What can be done on every page. */
export interface Act {
  name: string
  words: string
  act: () => unknown
  /** It cannot be done now. */
  off?: boolean
}

/** The pages and acts that a text fits: all of them while nothing is typed. */
export function offered(text: string, pages: Page[], acts: Act[]): Find[] {
  const named = (name: string) => name.toLowerCase() === text.trim().toLowerCase()
  const all: Find[] = [
    ...pages
      .filter((page) => fits(text, page.label, page.words))
      .map((page) => ({ key: 'page' + page.label, name: page.label, more: '', sort: 'page', to: placeOfPage(page) })),
    ...acts
      .filter((one) => !one.off && fits(text, one.name, one.words))
      .map((one) => ({ key: 'act' + one.name, name: one.name, more: '', sort: t('do it'), act: one.act })),
  ]
  return [...all.filter((one) => named(one.name)), ...all.filter((one) => !named(one.name))]
}

const sorts: Record<Found['sort'], string> = {
  problem: 'problem',
  run: 'run',
  revision: 'revision',
  container: 'container',
  directory: 'directory',
  agent: 'agent',
  cause: t('cause of problems'),
}

function toOf({ sort, key }: Found): RouteLocationRaw {
  switch (sort) {
    case 'problem':
      return { name: 'problem', params: { id: key } }
    case 'container':
      return { name: 'objects', query: { text: key, kind: '' } }
    case 'cause':
      return { name: 'problems', query: { code: key } }
    default:
      return placeOf({ about: { type: sort === 'revision' ? 'settings' : sort, key } })?.to ?? { name: 'overview' }
  }
}

/** One list: what is called just so, then objects, then the rest, then the way to all. */
export function finds(found: Schemas['Everything'], text: string): Find[] {
  const others = found.others.map((o) => ({
    exact: o.exact ?? false,
    find: { key: o.sort + o.key, name: o.name, more: o.more ?? '', sort: sorts[o.sort], to: toOf(o) },
  }))
  const objects = found.objects.map((hit) => ({
    key: (hit.entryId ?? '') + (hit.resourceId ?? ''),
    name: hit.name,
    more: hit.login || hit.dn || t('in the cloud only'),
    sort: hit.kind,
    state: objectWord(hit.state),
    to: { name: 'object', params: { id: hit.entryId || hit.resourceId || '' } },
  }))
  const list: Find[] = [
    ...others.filter((o) => o.exact).map((o) => o.find),
    ...objects,
    ...others.filter((o) => !o.exact).map((o) => o.find),
  ]
  if (found.total > found.objects.length)
    list.push({
      key: 'all',
      name: found.atLeast ? t('All objects that fit') : t('All {0}', count(found.total, 'object')),
      more: '',
      sort: '',
      to: { name: 'objects', query: { text, kind: '' } },
    })
  return list
}
