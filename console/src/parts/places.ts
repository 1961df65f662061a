// Where in the console the thing is that a problem or an act is about.
import type { RouteLocationRaw } from 'vue-router'

import type { Schemas } from '../api/client'
import { t } from '../state/language'

interface Place {
  to: RouteLocationRaw
  text: string
}

/** The page on which something can be looked at and mended; null where there is none. */
export function placeOf(of: { about: Schemas['Thing']; code?: string }): Place | null {
  const { type, key } = of.about
  switch (type) {
    case 'entry':
      return key
        ? { to: { name: 'object', params: { id: key.slice(key.indexOf('/') + 1) } }, text: t('Look at it') }
        : { to: { name: 'problems', query: { code: of.code } }, text: t('Look at them') }
    case 'resource':
      return { to: { name: 'object', params: { id: key } }, text: t('Look at it') }
    case 'cloud-group': {
      const at = key.indexOf('/')
      return {
        to: { name: 'cloud-group', params: { directory: key.slice(0, at), group: key.slice(at + 1) } },
        text: t('Look at the group'),
      }
    }
    case 'directory':
      return { to: { name: 'directory', params: { name: key } }, text: t('Look at the directory') }
    case 'agent':
      return { to: { name: 'directories' }, text: t('Look at the agents') }
    case 'domain':
      return { to: { name: 'domain', params: { domain: key } }, text: t('Look at the domain') }
    case 'cloud':
      return { to: { name: 'cloud' }, text: t('Look at the cloud') }
    case 'run':
      return { to: { name: 'run', params: { id: key } }, text: t('Look at run {0}', key) }
    case 'settings':
      return { to: { name: 'settings' }, text: t('Look at the settings') }
    default:
      return null
  }
}
