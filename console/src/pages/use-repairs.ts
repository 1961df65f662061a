// Repairs of findings: which values are to be written, and what became of them.
import type { DataTableRowKey } from 'naive-ui'
import { computed, reactive, ref, shallowRef } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { t } from '../state/language'
import { useLive } from '../state/live'

const hows = [
  { label: t('the proposed values'), value: 'proposal' },
  { label: t('another suffix'), value: 'suffix' },
  { label: t('another attribute'), value: 'from' },
  { label: t('no spaces around'), value: 'trim' },
  { label: t('small letters'), value: 'lower' },
]

/** survey gives the number of the survey whose findings are shown. */
export function useRepairs(survey: () => number) {
  const repairs = useLoad(() => unwrap(api.GET('/api/v1/repairs')), [])
  const repair = shallowRef<Schemas['Repair'] | null>(null)
  useLive().listen((event) => {
    if (event.kind !== 'repair') return
    void repairs.again()
    if (event.id !== undefined && event.id === repair.value?.id) void showRepair(event.id)
  })

  const chosen = ref<DataTableRowKey[]>([])
  const pattern = reactive({
    how: 'proposal' as 'proposal' | 'suffix' | 'from' | 'trim' | 'lower',
    suffix: '',
    with: '',
    from: 'mail',
  })
  const byPattern = computed(() => {
    switch (pattern.how) {
      case 'suffix':
        return { suffix: pattern.suffix, with: pattern.with }
      case 'from':
        return { from: pattern.from }
      case 'trim':
        return { trim: true }
      case 'lower':
        return { lower: true }
      default:
        return undefined
    }
  })

  // What would be written, to look at first.
  const items = ref<Schemas['RepairItem'][] | null>(null)
  const left = ref(0)
  const { busy: choosing, act: chooses } = useAct()
  async function choose(body: Schemas['ChooseRepairs']): Promise<void> {
    const answer = await chooses(() =>
      unwrap(api.POST('/api/v1/surveys/{id}/repairs', { params: { path: { id: survey() } }, body })),
    )
    if (!answer) return
    items.value = answer.items
    left.value = answer.left
  }

  const { busy: writing, act: writes } = useAct()
  async function write(): Promise<void> {
    const body = { items: items.value ?? [] }
    if (!body.items.length) return
    const begun = await writes(() => unwrap(api.POST('/api/v1/repairs', { body })))
    if (!begun) return
    repair.value = begun
    items.value = null
    await showRepair(begun.id)
  }
  const { act } = useAct()
  async function showRepair(id: number): Promise<void> {
    const now = await act(() => unwrap(api.GET('/api/v1/repairs/{id}', { params: { path: { id } } })))
    if (!now) return
    repair.value = now
    void repairs.again()
  }
  async function undo(id: number): Promise<void> {
    const back = await act(() => unwrap(api.POST('/api/v1/repairs/{id}/undo', { params: { path: { id } } })))
    if (!back) return
    repair.value = back
    await showRepair(back.id)
  }
  return {
    chosen,
    pattern,
    byPattern,
    hows,
    items,
    left,
    choosing,
    choose,
    writing,
    write,
    repair,
    repairs,
    showRepair,
    undo,
  }
}
