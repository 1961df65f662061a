// What a limit of the guard means for a number of people.
import type { Schemas } from '../api/client'

/** From how many on a limit holds, of a total; more than the total where it holds nothing. */
export function holdsFrom(limit: Schemas['Limit'], total: number): number {
  return Math.max(limit.number, Math.floor((total * limit.share) / 100)) + 1
}
