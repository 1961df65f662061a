import { afterEach, describe, expect, it, vi } from 'vitest'

import { button, mounted, press, Refused, serve } from '../testing/mount'
import Decide from './Decide.vue'

const remedies = [
  {
    act: 'link',
    title: 'Link with mira (r1)',
    when: 'It is the same person.',
    entry: 'e1',
    resource: 'r1',
    command: '',
  },
  { act: 'create', title: 'Make an account all the same', when: 'It is somebody else.', entry: 'e1', command: '' },
  { act: 'unlink', title: 'Unlink CN=Old', entry: 'e2', command: '' },
  { act: 'release-removals', title: 'Release', run: '7', command: '' },
]
const answers = {
  'GET /object': () => ({ resource: { id: 'r1', userName: 'mira@halvard.example', roles: [{ value: 'owner' }] } }),
  'POST /decisions': ({ body }: { body: unknown }) => {
    const { entry, action, do: does } = body as { entry: string; action: string; do?: boolean }
    return {
      entry,
      action,
      summary: `${action} ${entry}`,
      warnings: ['It administers the cloud.'],
      diffs: [],
      runId: does ? 9 : undefined,
    }
  },
}

describe('Decide', () => {
  let unmount = () => {}
  afterEach(() => {
    unmount()
    document.body.innerHTML = ''
  })
  async function show(role: 'viewer' | 'operator' = 'operator', more: Record<string, unknown> = {}) {
    const asked = serve(answers)
    const done = vi.fn()
    const shown = await mounted(Decide, { entry: 'e1', name: 'Mira', remedies, onDone: done, ...more }, role)
    unmount = () => shown.wrapper.unmount()
    return { ...shown, asked, done, decisions: () => asked.filter((r) => r.path === '/decisions').map((r) => r.body) }
  }

  it('shows the other side, and offers the remedies of the problem that are decisions', async () => {
    const { wrapper } = await show()
    expect(wrapper.text()).toContain('mira@halvard.example')
    expect(wrapper.text()).toContain('owner')
    expect(button('Make an account all the same…').title).toBe('It is somebody else.')
    expect(() => button('Release…')).toThrow()
  })
  it('does nothing before the second word, and then leads to the run', async () => {
    const { decisions, done, router } = await show()
    await press('Same person: link…')
    expect(document.body.textContent).toContain('link e1')
    expect(document.querySelector('[role=alert]')?.textContent).toContain('administers the cloud')
    expect(decisions()).toEqual([{ entry: 'e1', action: 'link', resource: 'r1' }])
    expect(done).not.toHaveBeenCalled()
    await press('Link')
    expect(decisions()[1]).toEqual({ entry: 'e1', action: 'link', resource: 'r1', do: true })
    expect(done).toHaveBeenCalledOnce()
    expect(router.currentRoute.value.params.id).toBe('9')
  })
  it('decides about the entry that a remedy names', async () => {
    const { decisions } = await show()
    await press('Unlink CN=Old…')
    expect(decisions()).toEqual([{ entry: 'e2', action: 'hold' }])
  })
  it('tells a refusal, and lets go', async () => {
    const { messages } = await show()
    serve({ ...answers, 'POST /decisions': () => new Refused(409, 'Linked', 'unlink that first.') })
    await press('Make an account all the same…')
    expect(messages().join()).toContain('unlink that first.')
    expect(document.body.textContent).not.toContain('Leave it')
    expect(button('Make an account all the same…').disabled).toBe(false)
  })
  it('is nothing for who may only look', async () => {
    const { wrapper } = await show('viewer')
    expect(wrapper.find('.decide').exists()).toBe(false)
  })
})
