<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import ProgressBar from 'primevue/progressbar'
import { useToast } from 'primevue/usetoast'
import { computed, onUnmounted, ref, watch } from 'vue'
import { useRoute } from 'vue-router'
import { api, take, type Change, type OutcomeLine, type Verdict } from '@/api/client'
import ComputingBar from '@/components/ComputingBar.vue'
import SetComparison from '@/components/SetComparison.vue'
import ChangeList from '@/components/ChangeList.vue'
import Fetched from '@/components/Fetched.vue'
import Mark from '@/components/Mark.vue'
import { useBegin } from '@/components/begin'
import { useFetched } from '@/components/fetched'
import { useLive, type LiveEvent } from '@/stores/live'
import { count, plural, time, verdict, verdictOf } from '@/words'

const props = defineProps<{ id: string }>()
const route = useRoute()
const { begin } = useBegin()
const toast = useToast()
const number = computed(() => Number(props.id))
const path = () => ({ path: { id: number.value } })

const progress = ref<Extract<LiveEvent, { event: 'progress' }> | null>(null)
const own = (event: LiveEvent) => event.event === 'change_set' && event.id === number.value
const set = useFetched(() => take(api.GET('/api/v1/change-sets/{id}', { params: path() })), own)
const chosen = ref<Verdict | null>(verdictOf(route.query.verdict))
const search = ref('')
/** Only lines with a change in this state. */
const state = ref<'failed' | null>(route.query.state === 'failed' ? 'failed' : null)
const more = ref<OutcomeLine[]>([])
const next = ref<string | null>(null)
const query = () => ({
  filter: chosen.value ?? '',
  ...(state.value ? { state: state.value } : {}),
  search: search.value,
  limit: 100,
})
const lines = useFetched(
  () =>
    take(
      api.GET('/api/v1/change-sets/{id}/lines', {
        params: { ...path(), query: query() },
      }),
    ).then((page) => {
      more.value = []
      next.value = page.next ?? null
      return page
    }),
  own,
)
async function showMore() {
  const page = await take(
    api.GET('/api/v1/change-sets/{id}/lines', {
      params: { ...path(), query: { ...query(), after: next.value ?? '' } },
    }),
  )
  more.value = [...more.value, ...page.items]
  next.value = page.next ?? null
}
watch([chosen, state, search], () => lines.soon())
watch(number, () => {
  progress.value = null
  chosen.value = null
  state.value = null
  void set.load()
  void lines.load()
})

const unsubscribe = useLive().listen((event) => {
  if (event.event === 'progress' && event.id === number.value) progress.value = event
})
onUnmounted(unsubscribe)

const going = computed(() => !!set.data.value && !set.data.value.ended_at)
const order: Verdict[] = [
  'on_hold',
  'disable',
  'create',
  'join',
  'update',
  'rename',
  'enable',
  'out_of_scope',
  'orphaned',
  'in_sync',
  'source',
]
const verdicts = computed(() =>
  [...(set.data.value?.verdicts ?? [])].sort((a, b) => order.indexOf(a.verdict) - order.indexOf(b.verdict)),
)
const shown = computed(() => {
  const rows = [...(lines.data.value?.items ?? []), ...more.value]
  // Without a filter, lines that need no attention are hidden.
  return chosen.value || state.value
    ? rows
    : rows.filter((row) => !['in_sync', 'source'].includes(row.verdict))
})
const share = computed(() =>
  progress.value && progress.value.total
    ? Math.round(((progress.value.done + progress.value.failed) / progress.value.total) * 100)
    : 0,
)
const toSend = computed(() => count(set.data.value?.states, 'proposed'))

const opened = ref<Record<string, boolean>>({})
const details = ref<Record<number, Change[]>>({})
async function expand(event: { data: OutcomeLine }) {
  const line = event.data
  const page = await take(
    api.GET('/api/v1/change-sets/{id}/changes', {
      params: { ...path(), query: { system: line.system, search: line.label, limit: 50 } },
    }),
  )
  details.value = {
    ...details.value,
    [line.seq]: page.items.filter(
      (change) => change.identity === (line.identity ?? '') && change.label === line.label,
    ),
  }
}

const asking = ref(false)
async function run() {
  asking.value = false
  await begin('run', number.value)
}
async function cancel() {
  try {
    await take(api.POST('/api/v1/change-sets/{id}/cancel', { params: path() }))
  } catch (problem) {
    // It may have ended just now; its state shows that.
    toast.add({ severity: 'error', summary: (problem as Error).message, life: 8000 })
  }
}
</script>

<template>
  <Fetched :loading="set.loading.value" :error="set.error.value" @retry="set.load">
    <template v-if="set.data.value">
      <div class="row spread">
        <div class="row">
          <h1>{{ set.data.value.kind === 'run' ? 'Run' : 'Preview' }} {{ set.data.value.id }}</h1>
          <span v-if="set.data.value.as_of" class="as-of"
            >as of {{ time(set.data.value.as_of).slice(0, 16) }}</span
          >
          <Mark :word="going ? set.data.value.state : set.data.value.result" />
          <span class="faint"
            >{{ time(set.data.value.started_at) }} by {{ set.data.value.principal }}, rules version
            {{ set.data.value.rule_version }}</span
          >
        </div>
        <Button v-if="going" label="Cancel" severity="secondary" @click="cancel" />
        <Button
          v-else-if="set.data.value.kind === 'preview' && !set.data.value.as_of"
          :label="
            toSend
              ? `Apply ${toSend === 1 ? 'this change' : `these ${toSend} changes`}…`
              : 'No changes to apply'
          "
          icon="pi pi-play"
          :disabled="!toSend"
          @click="asking = true"
        />
      </div>
      <p v-if="set.data.value.kind === 'preview'" class="faint">
        Nothing was written. Each line shows what a run would do, and why.
      </p>
      <p v-if="set.data.value.note" class="note">{{ set.data.value.note }}</p>

      <ComputingBar v-if="set.data.value.state === 'deciding'" />
      <section v-if="set.data.value.kind === 'run'" class="sheet" aria-label="Progress" aria-live="polite">
        <template v-if="going && progress">
          <ProgressBar :value="share" />
          <p class="run-counts">
            {{ progress.done }} done, {{ progress.failed }} failed of {{ progress.total }} ·
            {{ (progress.per_ten_seconds / 10).toFixed(0) }} per second
            <template v-if="progress.seconds_left !== null"> · {{ progress.seconds_left }} s left</template>
          </p>
        </template>
        <p v-else-if="going" class="run-counts">{{ set.data.value.state }} …</p>
        <p v-else class="run-counts">
          <template v-if="set.data.value.unread_systems.length"
            ><strong class="bad">{{ set.data.value.unread_systems.join(', ') }}</strong> could not be read
            completely.
          </template>
          <template v-if="!set.data.value.states.length">{{
            set.data.value.unread_systems.length
              ? 'Nothing was sent.'
              : 'Everything was in sync: nothing was sent.'
          }}</template>
          <template v-else>
            <strong>{{ count(set.data.value.states, 'done') }}</strong>
            {{ count(set.data.value.states, 'done') === 1 ? 'change' : 'changes' }} done,
            <strong :class="{ bad: count(set.data.value.states, 'failed') }">{{
              count(set.data.value.states, 'failed')
            }}</strong>
            failed<template v-if="count(set.data.value.states, 'failed')">
              (<button
                type="button"
                class="link"
                :aria-pressed="state === 'failed'"
                @click="state = state === 'failed' ? null : 'failed'"
              >
                {{ state === 'failed' ? 'show all' : 'show only these' }}</button
              >)</template
            >, <strong>{{ count(set.data.value.states, 'on_hold') }}</strong> on hold
            <template v-if="count(set.data.value.states, 'canceled')"
              >, {{ count(set.data.value.states, 'canceled') }} canceled</template
            >
          </template>
        </p>
      </section>

      <div class="verdicts" role="group" aria-label="Show only">
        <button
          v-for="entry in verdicts"
          :key="entry.verdict"
          class="tally"
          :class="[verdict(entry.verdict).tone, { chosen: chosen === entry.verdict }]"
          :aria-pressed="chosen === entry.verdict"
          @click="chosen = chosen === entry.verdict ? null : entry.verdict"
        >
          <span class="number">{{ entry.count }}</span>
          <span class="what">{{ verdict(entry.verdict).text }}</span>
          <small>{{ verdict(entry.verdict).meaning }}</small>
        </button>
      </div>

      <section class="sheet">
        <div class="row spread">
          <h2>{{ chosen ? verdict(chosen).text : 'Changes' }}</h2>
          <InputText v-model="search" placeholder="Search by name" aria-label="Search lines by name" />
        </div>
        <Fetched :loading="lines.loading.value" :error="lines.error.value" @retry="lines.load">
          <DataTable
            v-model:expanded-rows="opened"
            :value="shown"
            size="small"
            data-key="seq"
            scrollable
            scroll-height="32rem"
            @row-expand="expand"
          >
            <template #empty>{{ going ? 'Nothing is decided yet.' : 'No matching lines.' }}</template>
            <Column expander header="Values" style="width: 4.5rem" />
            <Column header="Person">
              <template #body="{ data: line }">
                <RouterLink v-if="line.identity" :to="{ name: 'identity', params: { id: line.identity } }">{{
                  line.label
                }}</RouterLink>
                <bdi v-else>{{ line.label }}</bdi>
              </template>
            </Column>
            <Column header="System" field="system" />
            <Column header="Verdict">
              <template #body="{ data: line }"><Mark :word="line.verdict" /></template>
            </Column>
            <Column header="Outcome">
              <template #body="{ data: line }"><Mark v-if="line.outcome" :word="line.outcome" /></template>
            </Column>
            <Column header="Reason">
              <template #body="{ data: line }"
                ><span class="wrap">{{ line.reason.text }}</span>
                <p v-if="line.error" class="answer" :class="{ bad: line.outcome === 'failed' }">
                  <bdi>{{ line.error }}</bdi><template v-if="line.remedy">
                    — to do: {{ line.remedy }}</template
                  >
                </p></template
              >
            </Column>
            <Column header="Rule">
              <template #body="{ data: line }"
                ><span class="faint mono">{{ line.rule }}</span></template
              >
            </Column>
            <template #expansion="{ data: line }">
              <p v-if="line.account" class="faint wrap">account: {{ line.account }}</p>
              <ChangeList v-if="details[line.seq]?.length" :changes="details[line.seq] ?? []" />
              <p v-else class="faint">No value changes.</p>
            </template>
          </DataTable>
          <Button v-if="next" label="Show more" size="small" severity="secondary" @click="showMore" />
        </Fetched>
      </section>
      <p v-if="!going">
        <a :href="`/api/v1/change-sets/${id}/changes.csv`" download>Export the changes as CSV</a>
      </p>
      <SetComparison v-if="!going" :id="Number(id)" />
    </template>
  </Fetched>
  <Dialog
    v-model:visible="asking"
    modal
    :header="`Send ${plural(toSend, 'change')}?`"
    :style="{ width: '32rem' }"
  >
    <ul>
      <li
        v-for="entry in verdicts.filter((v) =>
          ['create', 'join', 'update', 'rename', 'enable', 'disable'].includes(v.verdict),
        )"
        :key="entry.verdict"
      >
        {{ entry.count }} {{ verdict(entry.verdict).meaning }}
      </li>
    </ul>
    <p>The systems are read again. Anything that changed since this preview is put on hold and reported.</p>
    <div class="row">
      <Button label="Run" icon="pi pi-play" @click="run" />
      <Button label="Cancel" severity="secondary" @click="asking = false" />
    </div>
  </Dialog>
</template>

<style scoped>
.verdicts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(9.5rem, 1fr));
  gap: 1px;
  background: var(--line);
  border: 1px solid var(--line);
  margin: 1rem 0;
}
.tally {
  font: inherit;
  color: inherit;
  text-align: left;
  background: var(--sheet);
  border: 0;
  border-top: 4px solid var(--line);
  padding: 0.5rem 0.7rem;
  cursor: pointer;
  display: grid;
  align-content: start;
}
.tally.good {
  border-top-color: var(--good);
}
.tally.calm {
  border-top-color: var(--calm);
}
.tally.wait {
  border-top-color: var(--lamp);
}
.tally.bad {
  border-top-color: var(--bad);
}
.tally.chosen,
.tally:hover {
  background: var(--paper);
}
.tally.chosen {
  box-shadow: inset 0 0 0 2px var(--p-primary-color);
}
.number {
  font-size: 1.5rem;
  line-height: 1.1;
  font-variant-numeric: tabular-nums;
}
.what {
  font-weight: 600;
}
small {
  color: var(--faint);
}
.note {
  color: var(--wait);
  margin: 0.3rem 0;
}
.run-counts {
  margin: 0.3rem 0 0;
}
.bad {
  color: var(--bad);
}
.answer {
  margin: 0.2rem 0 0;
}
.link {
  font: inherit;
  color: inherit;
  background: none;
  border: 0;
  padding: 0;
  text-decoration: underline;
  cursor: pointer;
}
</style>
