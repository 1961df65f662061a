// The typed client of the service's own interface.
import createClient from 'openapi-fetch'

import { t } from '../state/language'
import type { components, paths } from './schema'

export type Schemas = components['schemas']
export type Run = Schemas['Run']
export type Change = Schemas['Change']
export type Hit = Schemas['Hit']
export type ObjectView = Schemas['Object']
export type Reason = Schemas['Node']
export type Health = Schemas['Health']

export const api = createClient<paths>({ credentials: 'same-origin', fetch: (request) => globalThis.fetch(request) })

/** A refusal of the service in words for people. */
export class Refusal extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
    readonly code = '',
  ) {
    super(detail ? `${title}: ${detail}` : title)
  }
}

interface Answer<T> {
  data?: T
  error?: unknown
  response: Response
}

/** What was asked for, or null where there is none. */
export async function orNull<T>(answer: Promise<T>): Promise<T | null> {
  try {
    return await answer
  } catch (e) {
    if (e instanceof Refusal && e.status === 404) return null
    throw e
  }
}

/** Unwraps an answer, or throws what went wrong as a Refusal. */
export async function unwrap<T>(request: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>
  try {
    answer = await request
  } catch {
    throw new Refusal(0, t('The service cannot be reached'), t('Check that it runs; this page tries again by itself.'))
  }
  if (answer.response.ok) return answer.data as T
  const body = (answer.error ?? {}) as { title?: string; detail?: string; type?: string }
  throw new Refusal(
    answer.response.status,
    body.title ?? t('The service answers {0}', answer.response.status),
    body.detail ?? '',
    body.type?.replace('urn:kambrel:problem:', ''),
  )
}
