// What the charts of a trend draw. Pure, so that it is tested without a page.
import type { Schemas } from '../api/client'
import { t } from '../state/language'
import type { Palette } from '../state/palette'

type Day = Schemas['TrendDay']

interface Line {
  name: string
  type: 'bar' | 'line'
  stack?: string
  symbol?: string
  data: number[]
  color: string
}

/** The lines and bars of one chart. */
export function series(chart: 'changes' | 'problems' | 'took', days: Day[], colours: Palette): Line[] {
  const of = (name: string, color: string, value: (d: Day) => number, type: 'bar' | 'line' = 'bar'): Line => ({
    name,
    type,
    color,
    ...(type === 'bar' ? { stack: 'all' } : { symbol: 'none' }),
    data: days.map(value),
  })
  switch (chart) {
    case 'changes':
      return [
        of(t('Created'), colours.accent, (d) => d.created + d.adopted),
        of(t('Updated'), colours.info, (d) => d.updated + d.restored),
        of(t('Removed'), colours.bad, (d) => d.removed),
      ]
    case 'problems':
      return [
        of(t('Opened'), colours.bad, (d) => d.opened),
        of(t('Closed'), colours.good, (d) => -d.closed),
        of(t('Open'), colours.ink3, (d) => d.open, 'line'),
      ]
    case 'took':
      return [of(t('Longest'), colours.accent, (d) => Math.round(d.longest * 10) / 10)]
  }
}
