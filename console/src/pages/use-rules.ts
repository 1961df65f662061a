// The rules of a kind in the draft: what each attribute becomes, who is one person,
// who is matched to whom, and what happens to those who leave.
import { useMessage } from 'naive-ui'
import { computed, ref, watch, type Ref } from 'vue'

import { api, unwrap, type Schemas } from '../api/client'
import { useLoad } from '../parts/use-load'
import { byWay, inWords, type Rule } from '../setup/rules'
import { useDraft } from '../state/draft'
import { t } from '../state/language'

export type Plural = 'users' | 'groups' | 'contacts'
const one: Record<Plural, 'user' | 'group' | 'contact'> = { users: 'user', groups: 'group', contacts: 'contact' }

/** kind is whose rules are shown, and chosen the target of the one that is edited. */
export function useRules(kind: Ref<Plural>, chosen: Ref<string>) {
  const draft = useDraft()
  const message = useMessage()
  const search = ref('')

  const cloud = useLoad(() => unwrap(api.GET('/api/v1/cloud')), [])
  const functions = useLoad(() => unwrap(api.GET('/api/v1/formulas/functions')), [])
  const usual = useLoad(
    () => unwrap(api.GET('/api/v1/settings/defaults/{kind}', { params: { path: { kind: one[kind.value] } } })),
    [kind, () => draft.saved?.version],
  )

  const taking = computed(() => {
    const document = draft.document
    if (!document) return null
    if (!document[kind.value]) document[kind.value] = {}
    return document[kind.value] as Schemas['Taking']
  })
  const rules = computed<Rule[]>(() => taking.value?.rules ?? [])
  const targets = computed(() =>
    (cloud.data.value?.targets ?? []).filter((t) => t.kind === one[kind.value] && !t.readOnly),
  )
  const targetOf = (path: string) => targets.value.find((t) => t.path.toLowerCase() === path.toLowerCase())
  const usualOf = (path: string) => (usual.data.value ?? []).find((r) => r.target.toLowerCase() === path.toLowerCase())
  const ruleOf = (path: string) => rules.value.find((r) => r.target.toLowerCase() === path.toLowerCase())
  const fits = (text: string) => text.toLowerCase().includes(search.value.toLowerCase())
  const shown = computed(() => rules.value.filter((r) => fits(r.target + ' ' + inWords(r))))
  const without = computed(() =>
    targets.value.filter((t) => !ruleOf(t.path) && t.path !== 'externalId' && fits(t.path + ' ' + t.description)),
  )
  const needed = computed(() =>
    targets.value.filter(
      (t) => t.required && !rules.value.some((r) => r.target.toLowerCase().startsWith(t.path.toLowerCase())),
    ),
  )

  const attributes = computed(() => {
    const names = new Set<string>([
      'cn',
      'sn',
      'givenName',
      'displayName',
      'mail',
      'title',
      'telephoneNumber',
      'uid',
      'userPrincipalName',
      'sAMAccountName',
      'department',
      'departmentNumber',
      'employeeID',
      'employeeNumber',
      'description',
      'userAccountControl',
      'manager',
      'l',
      'postalCode',
      'street',
      'mobile',
      'o',
      'ou',
    ])
    for (const rule of [...rules.value, ...(usual.data.value ?? [])]) if (rule.from) names.add(rule.from)
    return [...names].sort((a, b) => a.localeCompare(b))
  })

  const edited = computed<Rule | undefined>({
    get: () => ruleOf(chosen.value),
    set: (rule) => {
      if (rule && taking.value) taking.value.rules = rules.value.map((r) => (r.target === rule.target ? rule : r))
    },
  })
  watch(
    [rules, () => draft.document],
    () => {
      if (!chosen.value && rules.value[0]) chosen.value = rules.value[0].target
    },
    { immediate: true },
  )

  function add(target: Schemas['Target']): void {
    if (!taking.value) return
    const rule: Rule =
      usualOf(target.path) ??
      byWay(
        { target: target.path },
        target.path.toLowerCase() === 'members'
          ? 'reference'
          : target.multiValued && target.type === 'complex'
            ? 'granted'
            : 'formula',
      )
    taking.value.rules = [...rules.value, { ...rule }]
    chosen.value = target.path
  }
  function remove(path: string): void {
    if (taking.value) taking.value.rules = rules.value.filter((r) => r.target !== path)
    chosen.value = rules.value[0]?.target ?? ''
  }
  function restore(): void {
    if (!taking.value || !usual.data.value) return
    taking.value.rules = structuredClone(usual.data.value)
    message.info(t('The default rules stand in the draft. Save it, and look at the impact.'))
  }

  const directories = computed(() => (draft.document?.directories ?? []).map((d) => d.name))
  const attributeForm = /^[A-Za-z][A-Za-z0-9;-]*$/
  const persons = computed(() => taking.value?.person ?? [])
  function setPerson(at: number, change: Partial<Schemas['PersonRule']>): void {
    if (taking.value) taking.value.person = persons.value.map((j, i) => (i === at ? { ...j, ...change } : j))
  }
  const match = computed(() => taking.value?.match ?? [])
  function setMatch(at: number, change: Partial<Schemas['MatchRule']>): void {
    if (taking.value) taking.value.match = match.value.map((m, i) => (i === at ? { ...m, ...change } : m))
  }
  function move(at: number, by: number): void {
    if (!taking.value) return
    const list = [...match.value]
    const [taken] = list.splice(at, 1)
    if (taken) list.splice(at + by, 0, taken)
    taking.value.match = list
  }
  const policies = computed(() =>
    (kind.value === 'users'
      ? [
          { label: t('Suspend, and keep the account'), value: 'suspend' },
          { label: t('Suspend, and delete after the grace time'), value: 'delete' },
        ]
      : [{ label: t('Delete after the grace time'), value: 'delete' }]
    ).concat({ label: t('Keep as it is'), value: 'keep' }),
  )
  const days = computed({
    get: () => String(Math.round((parseFloat(taking.value?.grace ?? '720h') / 24) * 10) / 10),
    set: (value: string) => {
      const n = Number(value)
      if (taking.value && n >= 0) taking.value.grace = `${n * 24}h`
    },
  })
  return {
    search,
    cloud,
    functions,
    taking,
    rules,
    targets,
    targetOf,
    usualOf,
    shown,
    without,
    needed,
    attributes,
    edited,
    add,
    remove,
    restore,
    directories,
    attributeForm,
    persons,
    setPerson,
    match,
    setMatch,
    move,
    policies,
    days,
  }
}
