// Where in the console each step of a first day is done.
import type { RouteLocationRaw } from 'vue-router'

import type { Schemas } from '../api/client'
import { t } from '../state/language'

const places: Record<string, { to: RouteLocationRaw; text: string }> = {
  cloud: { to: { name: 'cloud' }, text: t('Cloud') },
  directory: { to: { name: 'directories' }, text: t('Directories') },
  scope: { to: { name: 'scope' }, text: t('Scope') },
  rehearsal: { to: { name: 'forecast' }, text: t('Forecast') },
  activation: { to: { name: 'settings' }, text: t('Settings') },
  run: { to: { name: 'runs' }, text: t('Runs') },
  work: { to: { name: 'settings', query: { view: 'schedule' } }, text: t('Schedule') },
  guard: { to: { name: 'settings', query: { view: 'limits' } }, text: t('Guard') },
  administrators: { to: { name: 'operators' }, text: t('Operators') },
  notices: { to: { name: 'notices' }, text: t('Notices') },
  backup: { to: { name: 'installation' }, text: t('Installation') },
  expectations: { to: { name: 'settings', query: { view: 'expectations' } }, text: t('Expectations') },
}
const directories = { to: { name: 'directories' }, text: t('Directories') }

export function placeOfStep(step: Schemas['FirstDayStep']): { to: RouteLocationRaw; text: string } {
  if (step.directory && step.key !== 'scope')
    return { to: { name: 'directory', params: { name: step.directory } }, text: step.directory }
  return places[step.key] ?? directories
}
