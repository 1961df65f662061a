// Where in the console each step of a first day is done.
import type { RouteLocationRaw } from 'vue-router'

import type { Schemas } from '../api/client'

const places: Record<string, { to: RouteLocationRaw; text: string }> = {
  cloud: { to: { name: 'cloud' }, text: 'Cloud' },
  directory: { to: { name: 'directories' }, text: 'Directories' },
  scope: { to: { name: 'scope' }, text: 'Scope' },
  rehearsal: { to: { name: 'forecast' }, text: 'Forecast' },
  activation: { to: { name: 'settings' }, text: 'Settings' },
  run: { to: { name: 'runs' }, text: 'Runs' },
  work: { to: { name: 'settings', query: { view: 'schedule' } }, text: 'Schedule' },
  guard: { to: { name: 'settings', query: { view: 'limits' } }, text: 'Guard' },
  administrators: { to: { name: 'operators' }, text: 'Operators' },
  notices: { to: { name: 'notices' }, text: 'Notices' },
  backup: { to: { name: 'installation' }, text: 'Installation' },
  expectations: { to: { name: 'settings', query: { view: 'expectations' } }, text: 'Expectations' },
}
const directories = { to: { name: 'directories' }, text: 'Directories' }

export function placeOfStep(step: Schemas['FirstDayStep']): { to: RouteLocationRaw; text: string } {
  if (step.directory && step.key !== 'scope')
    return { to: { name: 'directory', params: { name: step.directory } }, text: step.directory }
  return places[step.key] ?? directories
}
