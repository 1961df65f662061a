<script setup lang="ts">
// One object: entry, link and resource side by side, and why.
import { NButton, NCheckbox, NDatePicker, NSkeleton } from 'naive-ui'
import { computed, ref } from 'vue'
import { useRoute } from 'vue-router'

import { api, unwrap, type ObjectView } from '../api/client'
import History from '../desk/History.vue'
import Pins from '../desk/Pins.vue'
import Dn from '../parts/Dn.vue'
import Fault from '../parts/Fault.vue'
import Now from '../parts/Now.vue'
import Reasons from '../parts/Reasons.vue'
import Tag from '../parts/Tag.vue'
import { useLoad } from '../parts/use-load'
import { useQuery } from '../parts/use-query'
import Decide from '../setup/Decide.vue'
import Expect from '../setup/Expect.vue'
import Trial from '../setup/Trial.vue'
import { count, day, shortTarget, show, when } from '../parts/words'
import { language, t } from '../state/language'
import { useLive } from '../state/live'

const route = useRoute()
const id = computed(() => String(route.params.id))
const at = useQuery<string>('at', '')
const picked = computed({
  get: () => (at.value ? Date.parse(at.value) : null),
  set: (time) => (at.value = time === null ? '' : new Date(time).toISOString()),
})
const {
  data: object,
  failure,
  again,
} = useLoad(
  async (): Promise<ObjectView & { notes?: string[]; revision?: number }> =>
    at.value
      ? await unwrap(api.GET('/api/v1/object/at', { params: { query: { text: id.value, time: at.value } } }))
      : await unwrap(api.GET('/api/v1/object', { params: { query: { text: id.value } } })),
  [id, at],
)
useLive().listen((event) => event.kind === 'run' && void again())

const onlyDifferent = ref(false)
const attributes = computed(() => (object.value?.attributes ?? []).filter((a) => !onlyDifferent.value || !a.same))
const entryValues = computed(() =>
  Object.entries(object.value?.entry?.attributes ?? {}).sort(([a], [b]) => a.localeCompare(b)),
)
const person = computed(() => object.value?.person ?? [])
const follows = computed(() => person.value.find((one) => one.leads && one.entryId !== object.value?.entry?.id))
const resource = computed(() => object.value?.resource as Record<string, unknown> | undefined)
const howWords: Record<string, string> = {
  create: t('the resource was created'),
  adopt: t('the resource was there and was adopted'),
  relink: t('the resource bore the link key'),
  'handed over': t('the group was handed over'),
  swap: t('it was exchanged by hand with another entry'),
}
</script>

<template>
  <div>
    <template v-if="failure">
      <Fault :failure="failure" @again="again" />
      <NButton v-if="at" size="small" @click="at = ''">As it is now</NButton>
    </template>
    <NSkeleton v-else-if="!object" text :repeat="8" />
    <template v-else>
      <div class="page-head">
        <h1>{{ object.why.subject }}</h1>
        <span class="push" />
        <NDatePicker
          v-model:value="picked"
          type="datetime"
          size="small"
          clearable
          placeholder="As it was on…"
          :is-date-disabled="(time: number) => time > Date.now()"
          style="width: 210px"
        />
        <RouterLink :to="{ name: 'objects' }">All objects</RouterLink>
      </div>
      <section v-if="at" class="sheet past" role="status">
        <strong>As it was on {{ when(at) }}</strong
        >, by settings revision {{ object.revision }}. <NButton size="tiny" @click="at = ''">As it is now</NButton>
        <p v-for="text in object.notes ?? []" :key="text" class="quiet">{{ text }}.</p>
      </section>
      <p class="summary" :class="{ bad: object.problem }">{{ object.why.summary }}</p>
      <p v-for="other in object.why.others" :key="other.entryId || other.resourceId" class="quiet">
        Called so too:
        <RouterLink :to="{ name: 'object', params: { id: other.entryId || other.resourceId } }">{{
          other.dn || other.name
        }}</RouterLink>,
        {{
          other.gone
            ? t('deleted from {0}', other.directory)
            : other.entryId
              ? t('of {0}', other.directory)
              : t('in the cloud only')
        }}
      </p>
      <section v-if="object.problem" class="sheet note">
        <strong class="bad">{{ t(object.problem.title) }}</strong> since {{ when(object.problem.since)
        }}{{ object.problem.times > 1 ? t(', met by {0} runs', object.problem.times) : '' }}
        <p>{{ object.problem.detail }}</p>
        <p>{{ t(object.problem.cause) }} {{ t(object.problem.remedy) }}</p>
        <Decide
          v-if="object.entry && (!object.link || object.problem.remedies.length)"
          :entry="object.entry.id"
          :name="object.why.subject"
          :remedies="object.problem.remedies"
          @done="again"
        />
      </section>
      <div class="three">
        <section class="sheet">
          <header>
            <h2>Entry</h2>
            <span class="quiet">{{ object.entry?.directory }}</span>
          </header>
          <div class="body">
            <p v-if="!object.entry" class="quiet">No entry in a directory is linked to this resource.</p>
            <template v-else>
              <p v-if="object.entry.gone" class="warn">Deleted in the directory; this is how it was.</p>
              <dl class="facts">
                <dt>DN</dt>
                <dd><Dn :dn="object.entry.dn" /></dd>
                <dt>Id</dt>
                <dd class="mono">{{ object.entry.id }}</dd>
              </dl>
              <details class="forms">
                <summary>{{ count(entryValues.length, 'attribute') }} that the settings ask for</summary>
                <dl class="facts">
                  <template v-for="[name, values] in entryValues" :key="name"
                    ><dt>{{ name }}</dt>
                    <dd class="mono">{{ show(values) }}</dd></template
                  >
                </dl>
              </details>
              <details class="forms">
                <summary>The id in every form</summary>
                <dl class="facts">
                  <template v-for="form in object.entry.forms" :key="form.name"
                    ><dt>{{ form.name }}</dt>
                    <dd class="mono">{{ form.text }}</dd></template
                  >
                </dl>
              </details>
            </template>
          </div>
        </section>
        <section class="sheet">
          <header><h2>Link</h2></header>
          <div class="body">
            <p v-if="!object.link && follows" class="quiet">
              None of its own:
              <RouterLink :to="{ name: 'object', params: { id: follows.entryId } }">the entry that leads</RouterLink>
              bears it.
            </p>
            <p v-else-if="!object.link" class="quiet">There is none.</p>
            <dl v-else class="facts">
              <dt>Link key</dt>
              <dd class="mono">{{ object.link.linkKey }}</dd>
              <dt>Made</dt>
              <dd>
                {{ when(object.link.since) }} in
                <RouterLink :to="{ name: 'run', params: { id: object.link.runId } }"
                  >run {{ object.link.runId }}</RouterLink
                >: {{ howWords[object.link.how] }}
              </dd>
              <template v-if="object.link.left"
                ><dt>Left</dt>
                <dd class="warn">
                  {{ when(object.link.left)
                  }}{{ object.link.due ? t(', deleted from the cloud on {0}', day(object.link.due)) : '' }}; a return
                  restores the same resource
                </dd></template
              >
            </dl>
            <details v-if="object.link && object.entry && !at" class="forms">
              <summary>
                {{
                  object.link.left
                    ? t('Let it return, keep it, unlink')
                    : t('Unlink, merge or exchange with another resource')
                }}
              </summary>
              <Decide
                :entry="object.entry.id"
                :name="object.why.subject"
                :remedies="[]"
                linked
                :left="object.link.left ? (object.link.due ? 'due' : 'stays') : undefined"
                @done="again"
              />
            </details>
          </div>
        </section>
        <section class="sheet">
          <header>
            <h2>Resource</h2>
            <Tag
              v-if="resource"
              :text="resource.active === false ? t('inactive') : t('Active').toLowerCase()"
              :tone="resource.active === false ? 'default' : 'success'"
            />
          </header>
          <div class="body">
            <p v-if="!resource" class="quiet">Nothing in the cloud.</p>
            <dl v-else class="facts">
              <dt>Id</dt>
              <dd class="mono">{{ resource.id }}</dd>
              <template v-if="resource.userName"
                ><dt>Login</dt>
                <dd class="mono">{{ resource.userName }}</dd></template
              >
              <dt>externalId</dt>
              <dd class="mono">{{ resource.externalId ?? t('none') }}</dd>
              <dt>Changed</dt>
              <dd>{{ when((resource.meta as { lastModified?: string } | undefined)?.lastModified) }}</dd>
            </dl>
            <Now v-if="resource && !at" :id="String(resource.id)" />
          </div>
        </section>
      </div>
      <section v-if="person.length" class="sheet">
        <header>
          <h2>One person</h2>
          <span class="quiet">{{ person.length }} entries in several directories, one resource</span>
        </header>
        <table class="list members">
          <tbody>
            <tr v-for="one in person" :key="one.directory + one.entryId">
              <td>{{ one.directory }}</td>
              <td>
                <RouterLink :to="{ name: 'object', params: { id: one.entryId } }"><Dn :dn="one.dn" /></RouterLink>
                <details v-if="one.attributes" class="forms">
                  <summary>Its values</summary>
                  <dl class="facts">
                    <template v-for="(values, name) in one.attributes" :key="name"
                      ><dt>{{ name }}</dt>
                      <dd class="mono">{{ show(values) }}</dd></template
                    >
                  </dl>
                </details>
              </td>
              <td class="quiet">{{ one.leads ? t('leads: it bears the link') : t('one person by {0}', one.rule) }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <section class="sheet">
        <header>
          <h2>Why</h2>
          <span class="quiet">every decision, with the values it saw</span>
        </header>
        <div class="body"><Reasons :nodes="object.why.steps" /></div>
      </section>
      <section v-if="object.members" class="sheet">
        <header>
          <h2>Members</h2>
          <span class="quiet"
            >{{ object.members.total.toLocaleString(language) }} in the directory,
            {{ object.members.inCloud.toLocaleString(language) }} in the cloud{{
              object.members.leftOut ? t(', {0} left out', object.members.leftOut) : ''
            }}</span
          >
        </header>
        <table class="list members">
          <tbody>
            <tr v-for="member in object.members.items" :key="member.dn">
              <td>
                <RouterLink v-if="member.entryId" :to="{ name: 'object', params: { id: member.entryId } }">{{
                  member.name
                }}</RouterLink><span v-else>{{ member.name }}</span>
              </td>
              <td class="quiet">{{ member.kind }}</td>
              <td :class="member.leftOut ? 'warn' : 'quiet'">{{ member.leftOut ?? t('member in the cloud') }}</td>
            </tr>
            <tr v-if="object.members.total > object.members.items.length">
              <td colspan="3" class="quiet">
                and {{ (object.members.total - object.members.items.length).toLocaleString(language) }} more
              </td>
            </tr>
            <tr v-if="!object.members.total">
              <td colspan="3" class="quiet">Nobody is in it.</td>
            </tr>
          </tbody>
        </table>
      </section>
      <section v-if="object.attributes.length" class="sheet">
        <header>
          <h2>Attributes side by side</h2>
          <NCheckbox v-model:checked="onlyDifferent" size="small">Only what differs</NCheckbox>
        </header>
        <div class="body scroll">
          <table class="side">
            <thead>
              <tr>
                <th>Attribute</th>
                <th>By the rules</th>
                <th>In the cloud</th>
                <th>Rule</th>
              </tr>
            </thead>
            <tbody>
              <tr v-for="a in attributes" :key="a.target" :class="{ differs: !a.same }">
                <td class="mono" :title="a.target">{{ shortTarget(a.target) }}</td>
                <td class="mono">{{ a.managed ? show(a.desired) : '' }}</td>
                <td class="mono">{{ show(a.actual) }}</td>
                <td class="quiet">{{ a.managed ? a.source : t('no rule: never touched') }}</td>
              </tr>
              <tr v-if="!attributes.length">
                <td colspan="4" class="quiet">Nothing differs.</td>
              </tr>
            </tbody>
          </table>
        </div>
      </section>
      <Pins v-if="object.entry && !at" :entry="{ directory: object.entry.directory, id: object.entry.id }" />
      <Expect
        v-if="object.entry && !at"
        :entry="object.entry.id"
        :name="object.why.subject"
        :attributes="object.attributes"
      />
      <Trial v-if="object.entry && !at" :entry="object.entry.id" />
      <History :text="id" @at="(time) => (at = time)" />
    </template>
  </div>
</template>

<style scoped>
.summary {
  margin: -6px 0 14px;
  color: var(--ink-2);
  overflow-wrap: anywhere;
}
.note {
  border-left-color: var(--bad);
  margin-bottom: 14px;
}
.note p {
  margin: 4px 0;
}
.past {
  border-left: 4px solid var(--brass);
  padding: 8px 14px;
}
.past p {
  margin: 2px 0 0;
}
.three {
  display: grid;
  grid-template-columns: 1.25fr 1fr 1.1fr;
  gap: 14px;
  align-items: start;
}
.sheet {
  margin-bottom: 14px;
}
.forms {
  margin-top: 10px;
}
.forms dl {
  margin-top: 6px;
}
.members td,
.members td:first-child {
  padding: 4px 14px;
}
.scroll {
  overflow-x: auto;
}
.side {
  border-collapse: collapse;
  width: 100%;
}
.side th {
  text-align: left;
  font-weight: 500;
  color: var(--ink-3);
  padding: 2px 12px 4px 0;
}
.side td {
  border-top: 1px solid var(--line);
  padding: 4px 12px 4px 0;
  vertical-align: top;
  overflow-wrap: anywhere;
}
.differs td:nth-child(2) {
  background: var(--added);
}
.differs td:nth-child(3) {
  background: var(--taken);
}
details + details {
  border-top: 1px solid var(--line);
  margin-top: 6px;
  padding-top: 6px;
}
summary {
  cursor: pointer;
}
@media (max-width: 1000px) {
  .three {
    grid-template-columns: 1fr;
  }
}
</style>
