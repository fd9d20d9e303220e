<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'
import { api, type Attention, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import Mark from '@/components/Mark.vue'
import SystemSheet from '@/components/SystemSheet.vue'
import WriteStop from '@/components/WriteStop.vue'
import { useBegin } from '@/components/begin'
import { useFetched } from '@/components/fetched'
import { ago, span, text } from '@/words'

const { preview } = useBegin()
const leavers = useFetched(
  () => take(api.GET('/api/v1/leavers', { params: { query: { brief: true } } })),
  (event) => event.event === 'change_set' && event.state === 'done',
)
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/overview')),
  (event) => event.event !== 'progress' && event.event !== 'full_read',
)

async function acknowledge() {
  const last = data.value?.alerts[0]?.id ?? 0
  await take(api.POST('/api/v1/alerts/acknowledge', { body: { last } }))
  await load()
}

const people = computed(() => (data.value?.identities ?? []).reduce((sum, entry) => sum + entry.count, 0))
const onHold = computed(() => (data.value?.holds ?? []).reduce((sum, one) => sum + one.count, 0))
const failed = computed(() =>
  (data.value?.holds ?? [])
    .filter((one) => one.cause === 'failed' || one.cause === 'retried_later')
    .reduce((sum, one) => sum + one.count, 0),
)

/** The cause of those that failed; the final ones first. */
const failedCause = computed(() =>
  data.value?.holds.some((one) => one.cause === 'failed') ? 'failed' : 'retried_later',
)

const tones = { critical: 'bad', warning: 'wait', info: 'calm' } as const

/** The most severe entry, or that nothing needs attention. */
const headline = computed(() => {
  const overview = data.value
  if (!overview) return { text: '', tone: 'plain' }
  const first = overview.attention[0]
  if (!first) return { text: 'All changes are applied. Nothing needs attention.', tone: 'good' }
  return { text: first.message, tone: tones[first.severity] }
})

/** Everything that needs attention, except what the Preview button covers. */
const entries = computed(() => (data.value?.attention ?? []).filter((one) => one.kind !== 'no_run'))

/** The page with the details. */
function page(one: Attention) {
  switch (one.kind) {
    case 'open_access':
      return { name: 'leavers' }
    case 'guard':
    case 'approval':
    case 'external_change':
    case 'notices':
      return { name: 'decisions' }
    case 'unreachable':
    case 'read_failed':
      return { name: 'system', params: { name: one.system ?? '' } }
    case 'failed':
    case 'retried_later':
      return { name: 'on-hold', query: { cause: one.kind } }
    case 'review':
      return { name: 'on-hold', query: { cause: 'needs_review' } }
    case 'on_hold':
      return { name: 'on-hold' }
    case 'rules_invalid':
    case 'no_rules':
      return { name: 'rules' }
    case 'no_systems':
      return { name: 'connect' }
    case 'no_run':
      return { name: 'changes' }
    default:
      return undefined
  }
}
</script>

<template>
  <WriteStop v-if="data?.write_stop" :stop="data.write_stop" @changed="load" />
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <div class="row spread head">
        <h1 class="verdict" :class="headline.tone">{{ headline.text }}</h1>
        <div class="row">
          <WriteStop v-if="!data.write_stop" :stop="null" @changed="load" />
          <Button label="Preview a run" icon="pi pi-eye" :disabled="!data.rule_version" @click="preview()" />
        </div>
      </div>

      <ul v-if="entries.length" class="sheet attention" aria-label="Needs attention">
        <li v-for="one in entries" :key="`${one.kind} ${one.system}`" :class="tones[one.severity]">
          <span class="what">
            <RouterLink v-if="page(one)" :to="page(one)!">{{ one.message }}</RouterLink>
            <strong v-else>{{ one.message }}</strong>
          </span>
          <span class="faint">
            <bdi v-if="one.detail">{{ one.detail }}</bdi>
            <template v-if="one.names.length">
              <bdi>{{ one.names.join(', ') }}</bdi>
              <template v-if="one.count > one.names.length">
                and {{ one.count - one.names.length }} more</template
              >
            </template>
          </span>
        </li>
      </ul>

      <section class="tiles" aria-label="At a glance">
        <RouterLink class="tile" :to="{ name: 'identities' }">
          <span class="number">{{ people }}</span> identities
          <small class="faint">{{
            data.identities.map((i) => `${i.count} ${i.stage}`).join(', ') || 'created by the first run'
          }}</small>
        </RouterLink>
        <RouterLink class="tile" :class="{ lit: onHold > 0 }" :to="{ name: 'on-hold' }">
          <span class="number">{{ onHold }}</span> on hold
          <small class="faint">for any cause</small>
        </RouterLink>
        <RouterLink
          class="tile"
          :class="{ alarm: failed > 0 }"
          :to="{ name: 'on-hold', query: failed ? { cause: failedCause } : {} }"
        >
          <span class="number">{{ failed }}</span> changes failed
          <small class="faint">final, or retried later</small>
        </RouterLink>
        <RouterLink class="tile" :to="{ name: 'leavers' }">
          <span class="number">{{
            leavers.data.value?.median_seconds == null ? '—' : span(leavers.data.value.median_seconds)
          }}</span>
          to revoke a leaver’s access
          <small class="faint">{{
            leavers.data.value?.worst_seconds == null
              ? 'no leavers yet'
              : `median; ${span(leavers.data.value.worst_seconds)} at worst`
          }}</small>
        </RouterLink>
        <RouterLink class="tile" :to="{ name: 'rules' }">
          <span class="number">{{ data.rule_version || '—' }}</span> rules version
          <small class="faint">{{ data.rule_version ? 'published' : 'none published yet' }}</small>
        </RouterLink>
      </section>

      <template v-if="data.alerts.length">
        <div class="row spread gap">
          <h2>Notices</h2>
          <Button label="Mark all as read" size="small" severity="secondary" @click="acknowledge" />
        </div>
        <ul class="sheet notices">
          <li v-for="alert in data.alerts.slice(0, 8)" :key="alert.id">
            <strong
              ><bdi>{{ alert.subject }}</bdi></strong
            >
            <bdi> {{ alert.body }}</bdi> <span class="faint">{{ ago(alert.created_at) }}</span>
          </li>
          <li v-if="data.alerts.length > 8" class="faint">and {{ data.alerts.length - 8 }} more</li>
        </ul>
      </template>

      <h2 class="gap">Systems</h2>
      <div class="systems">
        <SystemSheet v-for="system in data.systems" :key="system.name" :system="system" />
      </div>

      <h2 class="gap">Recent activity</h2>
      <div v-if="!data.last_run && !data.last_preview && !data.last_auto_run" class="sheet faint">
        No activity yet. A preview shows what a run would do; it writes nothing.
      </div>
      <div
        v-for="set in [data.last_auto_run, data.last_run, data.last_preview].filter((s) => !!s)"
        :key="set!.id"
        class="sheet last"
      >
        <div class="row">
          <RouterLink :to="{ name: 'change-set', params: { id: set!.id } }"
            >{{ set!.kind }} {{ set!.id }}</RouterLink
          >
          <Mark :word="set!.result === 'in_progress' ? set!.state : set!.result" />
          <span class="faint">{{ ago(set!.started_at) }} by {{ set!.principal }}</span>
          <span v-for="entry in set!.states" :key="entry.state"
            >{{ entry.count }} {{ text(entry.state) }}</span
          >
          <span v-if="!set!.states.length && !set!.unread_systems.length">no changes</span>
          <span v-if="set!.unread_systems.length" class="bad"
            >{{ set!.unread_systems.join(', ') }} could not be read</span
          >
        </div>
        <div v-if="set!.note" class="faint">{{ set!.note }}</div>
      </div>
    </template>
  </Fetched>
</template>

<style scoped>
.head {
  margin-bottom: 1rem;
}
.tiles {
  display: grid;
  grid-template-columns: repeat(5, 1fr);
  border: 1px solid var(--line);
  background: var(--sheet);
}
.tile {
  padding: 0.8rem 1rem;
  color: inherit;
  text-decoration: none;
  border-right: 1px solid var(--line);
  display: grid;
}
.tile:last-child {
  border-right: 0;
}
.tile:hover {
  background: var(--paper);
}
.number {
  font-size: 1.9rem;
  line-height: 1.15;
  font-variant-numeric: tabular-nums;
}
.lit .number {
  color: var(--wait);
}
.alarm .number {
  color: var(--bad);
}
.attention {
  list-style: none;
  margin: 0 0 1rem;
  padding: 0;
}
.attention li {
  display: grid;
  grid-template-columns: minmax(16rem, 22rem) 1fr;
  gap: 0.2rem 1rem;
  padding: 0.45rem 0.9rem;
  border-left: 4px solid var(--line);
}
.attention li + li {
  border-top: 1px solid var(--line);
}
.attention .bad {
  border-left-color: var(--bad);
}
.attention .wait {
  border-left-color: var(--lamp);
}
.attention .calm {
  border-left-color: var(--calm);
}
.attention .what {
  font-weight: 600;
}
.notices {
  margin: 0;
  padding-left: 2rem;
  border-left: 4px solid var(--lamp);
}
.gap {
  margin-top: 1.5rem;
}
.systems {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(26rem, 1fr));
  gap: 1rem;
}
.last + .last {
  margin-top: -1px;
}
</style>
