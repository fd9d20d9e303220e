<script setup lang="ts">
import Button from 'primevue/button'
import { computed } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import Mark from '@/components/Mark.vue'
import SystemSheet from '@/components/SystemSheet.vue'
import WriteStop from '@/components/WriteStop.vue'
import { useBegin } from '@/components/begin'
import { useFetched } from '@/components/fetched'
import { ago, count, span } from '@/words'

const { preview } = useBegin()
const leavers = useFetched(
  () => take(api.GET('/api/v1/leavers', { params: { query: { brief: true } } })),
  (event) => event.event === 'change_set' && event.state === 'done',
)
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/overview')),
  (event) => event.event !== 'progress' && event.event !== 'reading',
)

async function seen() {
  const last = data.value?.notices[0]?.id ?? 0
  await take(api.POST('/api/v1/notices/seen', { body: { last } }))
  await load()
}

const troubled = computed(() =>
  (data.value?.systems ?? []).filter(
    (s) => s.healthy === false || s.readings.some((r) => r.state === 'broken'),
  ),
)
const people = computed(() => (data.value?.identities ?? []).reduce((sum, entry) => sum + entry.count, 0))
const newest = computed(() => {
  const [run, preview] = [data.value?.last_run, data.value?.last_preview]
  return preview && (!run || preview.id > run.id) ? preview : run
})

const waiting = computed(() => count(newest.value?.verdicts, 'held'))

/** One sentence that answers: is everything well? */
const sentence = computed(() => {
  const overview = data.value
  if (!overview) return { text: '', tone: 'plain' }
  if (overview.write_stop) return { text: 'All writes are stopped.', tone: 'bad' }
  if (!overview.systems.length)
    return {
      text: 'No system is connected yet. Connect one with the client: eager-tide systems add.',
      tone: 'wait',
    }
  if (troubled.value.length)
    return {
      text: `${troubled.value.map((s) => s.name).join(' and ')} cannot be used as it should. See below what to do.`,
      tone: 'bad',
    }
  if (!overview.rule_version)
    return { text: 'Both sides are connected, and no rules are published yet.', tone: 'wait' }
  if (overview.failed) return { text: `${overview.failed} changes of the last run failed.`, tone: 'bad' }
  if (overview.held)
    return { text: `Well, but ${overview.held} changes of the last run are held.`, tone: 'wait' }
  if (!overview.last_run)
    return { text: 'All systems are well. Nothing has been run yet: begin with a preview.', tone: 'good' }
  if (waiting.value)
    return {
      text: `Every change is done. ${waiting.value} lines are held: they wait, or need a word.`,
      tone: 'wait',
    }
  return { text: 'All is well.', tone: 'good' }
})
</script>

<template>
  <p v-if="data?.stalled" class="sheet stalled" role="alert">
    <strong>Everything stands still.</strong> {{ data.stalled }}.
  </p>
  <WriteStop v-if="data?.write_stop" :stop="data.write_stop" @changed="load" />
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <div class="row spread head">
        <h1 class="verdict" :class="sentence.tone">{{ sentence.text }}</h1>
        <div class="row">
          <WriteStop v-if="!data.write_stop" :stop="null" @changed="load" />
          <Button label="Preview a run" icon="pi pi-eye" :disabled="!data.rule_version" @click="preview()" />
        </div>
      </div>

      <section class="tiles" aria-label="At a glance">
        <RouterLink class="tile" :to="{ name: 'identities' }">
          <span class="number">{{ people }}</span> identities
          <small class="faint">{{
            data.identities.map((i) => `${i.count} ${i.word}`).join(', ') || 'a run makes them'
          }}</small>
        </RouterLink>
        <RouterLink
          class="tile"
          :class="{ lit: waiting > 0 }"
          :to="
            newest
              ? { name: 'change-set', params: { id: newest.id }, query: { verdict: 'held' } }
              : { name: 'changes' }
          "
        >
          <span class="number">{{ waiting }}</span> lines held
          <small class="faint">{{
            newest ? `as of ${newest.kind} ${newest.id}` : 'nothing was decided yet'
          }}</small>
        </RouterLink>
        <RouterLink
          class="tile"
          :class="{ alarm: data.failed > 0 }"
          :to="data.last_run ? { name: 'change-set', params: { id: data.last_run.id } } : { name: 'changes' }"
        >
          <span class="number">{{ data.failed }}</span> changes failed
          <small class="faint">{{ data.last_run ? `in run ${data.last_run.id}` : 'no run yet' }}</small>
        </RouterLink>
        <RouterLink class="tile" :to="{ name: 'leavers' }">
          <span class="number">{{
            leavers.data.value?.median_seconds == null ? '—' : span(leavers.data.value.median_seconds)
          }}</span>
          to close a leaver’s access
          <small class="faint">{{
            leavers.data.value?.worst_seconds == null
              ? 'nobody left yet'
              : `median; ${span(leavers.data.value.worst_seconds)} at worst`
          }}</small>
        </RouterLink>
        <RouterLink class="tile" :to="{ name: 'rules' }">
          <span class="number">{{ data.rule_version || '—' }}</span> rules version
          <small class="faint">{{ data.rule_version ? 'published' : 'none published yet' }}</small>
        </RouterLink>
      </section>

      <template v-if="data.notices.length">
        <div class="row spread gap">
          <h2>To be noticed</h2>
          <Button label="I have seen these" size="small" severity="secondary" @click="seen" />
        </div>
        <ul class="sheet notices">
          <li v-for="notice in data.notices.slice(0, 8)" :key="notice.id">
            <strong
              ><bdi>{{ notice.subject }}</bdi></strong
            >
            <bdi> {{ notice.body }}</bdi> <span class="faint">{{ ago(notice.made) }}</span>
          </li>
          <li v-if="data.notices.length > 8" class="faint">and {{ data.notices.length - 8 }} more</li>
        </ul>
      </template>

      <h2 class="gap">Systems</h2>
      <div class="systems">
        <SystemSheet v-for="system in data.systems" :key="system.name" :system="system" />
      </div>

      <h2 class="gap">What happened last</h2>
      <div v-if="!data.last_run && !data.last_preview && !data.last_by_itself" class="sheet faint">
        Nothing yet. A preview shows what a run would do, and writes nothing.
      </div>
      <div
        v-for="set in [data.last_by_itself, data.last_run, data.last_preview].filter((s) => !!s)"
        :key="set!.id"
        class="sheet last"
      >
        <div class="row">
          <RouterLink :to="{ name: 'change-set', params: { id: set!.id } }"
            >{{ set!.kind }} {{ set!.id }}</RouterLink
          >
          <Mark :word="set!.result === 'in_progress' ? set!.state : set!.result" />
          <span class="faint">{{ ago(set!.started) }} by {{ set!.principal }}</span>
          <span v-for="entry in set!.states" :key="entry.word">{{ entry.count }} {{ entry.word }}</span>
          <span v-if="!set!.states.length && !set!.unread.length">nothing to change</span>
          <span v-if="set!.unread.length" class="bad">{{ set!.unread.join(', ') }} could not be read</span>
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
.stalled {
  border-left: 4px solid var(--bad);
  margin-bottom: 1rem;
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
