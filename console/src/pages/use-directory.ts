// One directory: its steps to the first run, and what can be done with it.
import { useMessage } from 'naive-ui'
import { computed, ref, shallowRef, type ComputedRef } from 'vue'
import { useRouter } from 'vue-router'

import { api, unwrap, type Schemas } from '../api/client'
import { useAct } from '../parts/use-act'
import { useLoad } from '../parts/use-load'
import { t } from '../state/language'
import { useLive } from '../state/live'

type Feature = 'repair' | 'reset-passwords' | 'change-passwords' | 'unlock' | 'password-digests' | 'cloud-groups'

const features: { value: Feature; text: string; means: string }[] = [
  { value: 'repair', text: t('Repair entries'), means: t('write the values that a survey proposes') },
  { value: 'reset-passwords', text: t('Reset passwords'), means: t('set passwords that people reset in the cloud') },
  { value: 'change-passwords', text: t('Change passwords'), means: t('for people who give the old one in the cloud') },
  { value: 'unlock', text: t('Unlock accounts'), means: t('that are locked after wrong passwords') },
  {
    value: 'cloud-groups',
    text: t('Cloud groups'),
    means: t('kept in a container, which the page Cloud groups names'),
  },
  { value: 'password-digests', text: t('Digests of passwords'), means: t('to sign in to the cloud with the same one') },
]

/** name is that of the directory. */
export function useDirectory(name: ComputedRef<string>) {
  const router = useRouter()
  const message = useMessage()
  const { act } = useAct()
  const path = () => ({ path: { name: name.value } })
  const { data, failure, again } = useLoad(
    () => unwrap(api.GET('/api/v1/directories/{name}', { params: path() })),
    [name],
  )
  useLive().listen((event) => event.kind !== 'repair' && void again())

  const online = computed(() => data.value?.agents.filter((agent) => agent.state === 'online') ?? [])
  const steps = computed(() => {
    const d = data.value
    if (!d) return []
    return [
      { text: t('An agent serves it'), done: online.value.length > 0 },
      { text: t('The probe finds nothing wrong'), done: Boolean(d.probe && d.probe.outcome !== 'bad') },
      { text: t('It was read'), done: Boolean(d.lastRead) },
      { text: t('Containers are chosen and the settings activated'), done: d.active },
    ]
  })

  // A new agent: the code, and what to run on its host.
  const code = shallowRef<Schemas['EnrolmentCode'] | null>(null)
  async function issue(): Promise<void> {
    code.value =
      (await act(() => unwrap(api.POST('/api/v1/agents/codes', { body: { directories: [name.value] } })))) ?? code.value
  }
  const commands = computed(() => {
    if (!code.value || !data.value) return ''
    const url =
      data.value.dialect === 'ad'
        ? 'ldaps://dc1.' + (data.value.base.match(/DC=([^,]+)/gi) ?? []).map((part) => part.slice(3)).join('.')
        : 'ldaps://HOST'
    return [
      code.value.command,
      `kambrel agent directory set ${data.value.name} --url ${url.toLowerCase()} --ca CA.pem --bind-dn ACCOUNT`,
      'kambrel agent run',
    ].join('\n')
  })
  function download(): void {
    const link = document.createElement('a')
    link.href = URL.createObjectURL(
      new Blob(['#!/bin/sh\nset -e\n' + commands.value + '\n'], { type: 'text/x-shellscript' }),
    )
    link.download = `enrol-${name.value}.sh`
    link.click()
    URL.revokeObjectURL(link.href)
  }
  async function copy(text: string): Promise<void> {
    try {
      await navigator.clipboard.writeText(text)
      message.success(t('Copied.'))
    } catch {
      message.warning(t('The browser does not allow copying here: select the text instead.'))
    }
  }

  const { busy: probing, act: probes } = useAct()
  async function probe(agent?: string): Promise<void> {
    await probes(async () => {
      await unwrap(
        api.POST('/api/v1/directories/{name}/probe', { params: { ...path(), query: agent ? { agent } : {} } }),
      )
      await again()
    })
  }
  async function read(): Promise<void> {
    const run = await act(() => unwrap(api.POST('/api/v1/settings/draft/read')))
    if (run) await router.push({ name: 'run', params: { id: run.id } })
  }

  async function setFeature(feature: Feature, on: boolean): Promise<void> {
    await act(async () => {
      const draft = await unwrap(api.GET('/api/v1/settings/draft'))
      const now = (data.value?.features ?? []).filter((f) => f !== feature) as Feature[]
      await unwrap(
        api.PATCH('/api/v1/directories/{name}', {
          params: path(),
          body: { version: draft.version, features: on ? [...now, feature] : now, setFeatures: true },
        }),
      )
      await again()
    })
  }
  const rights = shallowRef('')
  async function showRights(): Promise<void> {
    const answer = await act(() => unwrap(api.GET('/api/v1/directories/{name}/rights', { params: path() })))
    if (answer) rights.value = answer.text
  }

  // Taking it away: what would go, and its name typed.
  const removal = shallowRef<Schemas['RemovalPreview'] | null>(null)
  const typed = ref('')
  async function askRemoval(): Promise<void> {
    typed.value = ''
    removal.value = (await act(() => unwrap(api.GET('/api/v1/directories/{name}/removal', { params: path() })))) ?? null
  }
  async function remove(): Promise<void> {
    await act(async () => {
      await unwrap(api.POST('/api/v1/directories/{name}/removal', { params: path(), body: { confirm: typed.value } }))
      removal.value = null
      await router.push({ name: 'directories' })
    })
  }
  return {
    data,
    failure,
    again,
    online,
    steps,
    code,
    issue,
    commands,
    download,
    copy,
    probing,
    probe,
    read,
    features,
    setFeature,
    rights,
    showRights,
    removal,
    typed,
    askRemoval,
    remove,
  }
}
