import { mount } from '@vue/test-utils'
import { afterEach, describe, expect, it } from 'vitest'
import { nextTick } from 'vue'

import Diffs from './Diffs.vue'
import Reasons from './Reasons.vue'
import Tabs from './Tabs.vue'

afterEach(() => (document.body.innerHTML = ''))

describe('Tabs', () => {
  const choices = ['users', 'groups', 'contacts'].map((value) => ({ value, text: value }))
  it('are walked with the arrow keys, round the end, with one stop of the tab key', async () => {
    const tabs = mount(Tabs, {
      props: {
        choices,
        label: 'Kinds',
        modelValue: 'users',
        'onUpdate:modelValue': (v: string) => tabs.setProps({ modelValue: v }),
      },
      attachTo: document.body,
    })
    const at = () =>
      tabs.findAll('[role=tab]').map((t) => [t.attributes('aria-selected'), t.attributes('tabindex')].join())
    expect(at()).toEqual(['true,0', 'false,-1', 'false,-1'])
    await tabs.trigger('keydown', { key: 'ArrowLeft' })
    await nextTick()
    expect(at()).toEqual(['false,-1', 'false,-1', 'true,0'])
    expect(document.activeElement?.textContent?.trim()).toBe('contacts')
    await tabs.findAll('[role=tab]')[1]!.trigger('click')
    expect(tabs.props('modelValue')).toBe('groups')
    tabs.unmount()
  })
})

describe('Reasons', () => {
  const leaf = (text: string, outcome: string, more = {}) => ({ text, outcome, ...more })
  const tree = [
    leaf('Scope: does it take part?', 'no', {
      children: [
        leaf('containers', 'yes', { children: [leaf('OU=Crew', 'yes')] }),
        leaf('filter', 'no', { children: [leaf('(title=Mate)', 'no', { value: 'Purser', deciding: true })] }),
      ],
    }),
  ]
  it('open where it was decided, and say so in words', () => {
    const reasons = mount(Reasons, { props: { nodes: tree as never } })
    const open = reasons.findAll('details').map((d) => d.attributes('open') !== undefined)
    expect(open).toEqual([true, false, true])
    expect(reasons.find('.mark').text()).toBe('decides')
    expect(reasons.find('.head').text()).toContain('(no)')
  })
})

describe('Diffs', () => {
  it('show what was, what will be, and by which rule', () => {
    const diffs = mount(Diffs, {
      props: { diffs: [{ target: 'title', before: 'Purser', after: 'Mate', source: 'from title' }] as never },
    })
    for (const text of ['title', 'Purser', 'Mate', 'from title']) expect(diffs.text()).toContain(text)
  })
})
