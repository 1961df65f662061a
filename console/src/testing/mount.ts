// Mounts a component as the console does: in its providers, with a router, and with
// a small service that answers from a table instead of the network.
import { flushPromises, mount, type VueWrapper } from '@vue/test-utils'
import { NMessageProvider } from 'naive-ui'
import { createPinia, setActivePinia } from 'pinia'
import { defineComponent, h, type Component } from 'vue'
import { createMemoryHistory, createRouter, type Router } from 'vue-router'

import { useSession } from '../state/session'

export interface Request {
  method: string
  path: string
  query: URLSearchParams
  body: unknown
}
type Answer = (request: Request) => unknown

/** A refusal, as the service writes it (RFC 9457). */
export class Refused {
  constructor(
    readonly status: number,
    readonly title: string,
    readonly detail: string,
  ) {}
}

/** Lets the service answer; a key is a method and a path. It returns what was asked. */
export function serve(answers: Record<string, Answer>): Request[] {
  const asked: Request[] = []
  globalThis.fetch = async (input: RequestInfo | URL, init?: RequestInit) => {
    const sent = new globalThis.Request(input as RequestInfo, init)
    const url = new URL(sent.url)
    const text = await sent.text()
    const request: Request = {
      method: sent.method,
      path: url.pathname.replace('/api/v1', ''),
      query: url.searchParams,
      body: text ? (JSON.parse(text) as unknown) : undefined,
    }
    asked.push(request)
    const answer = answers[`${request.method} ${request.path}`]
    const value = answer ? answer(request) : new Refused(404, 'Not found', 'nothing there.')
    if (value instanceof Refused)
      return new Response(JSON.stringify({ title: value.title, detail: value.detail, status: value.status }), {
        status: value.status,
        headers: { 'Content-Type': 'application/problem+json' },
      })
    return new Response(JSON.stringify(value), { headers: { 'Content-Type': 'application/json' } })
  }
  return asked
}

export interface Mounted {
  wrapper: VueWrapper
  router: Router
  /** The texts of messages that are shown. */
  messages: () => string[]
}

/** Mounts a component for an operator of a role, and waits for what it loads. */
export async function mounted(
  component: Component,
  props: Record<string, unknown> = {},
  role: 'viewer' | 'operator' | 'administrator' = 'administrator',
): Promise<Mounted> {
  const pinia = createPinia()
  setActivePinia(pinia)
  useSession().who = { name: 'ingrid', role }
  const empty = { template: '<div />' }
  const names = [
    'kept',
    'problems',
    'problem',
    'run',
    'runs',
    'object',
    'objects',
    'directories',
    'installation',
    'domain',
    'domains',
    'directory',
    'settings',
    'cloud',
    'survey',
    'rules',
  ]
  const router = createRouter({
    history: createMemoryHistory(),
    routes: [
      { path: '/', component: empty },
      ...names.map((name) => ({ path: `/${name}/:id?/:name?`, name, component: empty })),
    ],
  })
  await router.push('/')
  const Root = defineComponent({ render: () => h(NMessageProvider, null, () => h(component, props)) })
  const wrapper = mount(Root, { global: { plugins: [pinia, router] }, attachTo: document.body })
  await flushPromises()
  return {
    wrapper,
    router,
    messages: () => [...document.querySelectorAll('.n-message')].map((m) => m.textContent ?? ''),
  }
}

/** The button with a text, in the page or in a dialogue. */
export function button(text: string): HTMLButtonElement {
  const found = [...document.querySelectorAll('button')].find((b) => b.textContent?.trim() === text)
  if (!found) throw new Error(`there is no button ${text} in ${document.body.textContent}`)
  return found
}

export async function press(text: string): Promise<void> {
  button(text).click()
  await flushPromises()
}
