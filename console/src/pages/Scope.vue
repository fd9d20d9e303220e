<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import Textarea from 'primevue/textarea'
import { useToast } from 'primevue/usetoast'
import { computed, ref, watch } from 'vue'
import { api, Refusal, take, type Schemas, type ScopeStatus } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import Tree from '@/components/Tree.vue'
import { useFetched } from '@/components/fetched'
import { useMore } from '@/components/more'
import { plural, scopeStatuses } from '@/words'
import { chosen, emptyScope, groupsOf, groupText, type Act, type Scope } from '@/components/scoping'

const props = defineProps<{ name: string }>()
const toast = useToast()
const path = () => ({ name: props.name })
type ScopeCount = Schemas['ScopeCount']
const status = ref<ScopeStatus | null>(null)
/** The reason whose records are shown: a code, and the rule behind it. */
const reason = ref<Pick<ScopeCount, 'code' | 'rule'> | null>(null)
const search = ref('')
const query = computed(() => ({
  ...(status.value ? { status: status.value } : {}),
  ...(reason.value ? { code: reason.value.code } : {}),
  ...(reason.value?.rule ? { rule: reason.value.rule } : {}),
  ...(search.value ? { search: search.value } : {}),
  limit: 300,
}))
const read = (after?: string) => {
  const asked = after ? { ...query.value, after } : query.value
  return take(api.GET('/api/v1/systems/{name}/scope', { params: { path: path(), query: asked } }))
}
const { more, next, restart, showMore } = useMore(async (after) => {
  const page = await read(after)
  return { rows: page.lines, next: page.next }
})
const view = useFetched(
  async () => {
    const page = await read()
    restart(page.next)
    return page
  },
  (event) => event.event === 'rules' || (event.event === 'full_read' && event.state !== 'running'),
)
const system = useFetched(() => take(api.GET('/api/v1/systems/{name}', { params: { path: path() } })))
watch([status, reason, search], () => view.soon())

const total = (of: ScopeStatus) => view.data.value?.totals.find((t) => t.status === of)?.count ?? 0
const order: ScopeStatus[] = ['in', 'out', 'on_hold']
const exported = computed(
  () =>
    `/api/v1/systems/${encodeURIComponent(props.name)}/scope.csv?${new URLSearchParams(query.value as unknown as Record<string, string>)}`,
)
/** Filters by a status and a reason; the same choice again removes the filter. */
const isPicked = (count: ScopeCount | null) =>
  reason.value?.code === count?.code && reason.value?.rule === count?.rule
function pick(chosenStatus: ScopeStatus | null, chosenReason: ScopeCount | null) {
  const again = status.value === chosenStatus && isPicked(chosenReason)
  status.value = again ? null : chosenStatus
  reason.value = again ? null : chosenReason
}

const editing = ref(false)
const draft = ref<Scope>(emptyScope())
const groups = ref('')
const simulation = ref<Schemas['ScopeSimulationView'] | null>(null)
const fault = ref('')
let turn = 0
/** The findings of the rule check, or else the error. */
function describe(problem: unknown) {
  const faults = problem instanceof Refusal ? (problem.problem.faults ?? []) : []
  const first = faults.map((f) => [f.message, f.help].filter(Boolean).join(' — '))
  return first.length ? first.join('; ') : (problem as Error).message
}
function edit() {
  draft.value = JSON.parse(JSON.stringify(view.data.value?.scope ?? emptyScope())) as Scope
  groups.value = groupText(draft.value)
  simulation.value = null
  fault.value = ''
  editing.value = true
}
const edited = computed<Scope>(() => ({ ...draft.value, ...groupsOf(groups.value) }))
/** Simulates every edit, so that its impact is visible before anything is stored. */
async function simulate() {
  const own = ++turn
  try {
    const answer = await take(
      api.POST('/api/v1/systems/{name}/scope/simulate', { params: { path: path() }, body: edited.value }),
    )
    if (own !== turn) return
    simulation.value = answer
    fault.value = ''
  } catch (problem) {
    if (own !== turn) return
    simulation.value = null
    fault.value = describe(problem)
  }
}
let timer: ReturnType<typeof setTimeout> | undefined
watch(edited, () => {
  if (!editing.value) return
  // The shown result is older than this edit.
  simulation.value = null
  clearTimeout(timer)
  timer = setTimeout(simulate, 400)
})
function choose(dn: string, act: Act) {
  draft.value = chosen(draft.value, dn, act)
}
async function save() {
  try {
    const published = await take(
      api.PUT('/api/v1/systems/{name}/scope', { params: { path: path() }, body: edited.value }),
    )
    toast.add({
      severity: 'success',
      summary: `Published as version ${published.version}; nothing was sent`,
      life: 4000,
    })
    editing.value = false
    await view.load()
  } catch (problem) {
    fault.value = describe(problem)
  }
}
const browse = (below: string | null) =>
  take(api.GET('/api/v1/systems/{name}/tree', { params: { path: path(), query: below ? { below } : {} } }))
</script>

<template>
  <div class="row spread head">
    <h1>Scope of {{ name }}</h1>
    <div class="row">
      <a class="export" :href="exported" download>Export as CSV</a>
      <Button v-if="!editing" label="Edit scope" @click="edit" />
    </div>
  </div>
  <Fetched :loading="view.loading.value" :error="view.error.value" @retry="view.load">
    <div class="statuses" role="group" aria-label="Status">
      <button
        v-for="one in order"
        :key="one"
        type="button"
        class="status"
        :class="[one, { picked: status === one && !reason }]"
        :aria-pressed="status === one && !reason"
        @click="pick(one, null)"
      >
        <strong>{{ total(one) }}</strong> {{ scopeStatuses[one] }}
      </button>
    </div>

    <section v-if="editing" class="sheet editor">
      <h2>
        Scope <span class="faint">in {{ view.data.value?.file }}</span>
      </h2>
      <div class="two">
        <div v-if="system.data.value?.kind === 'ldap'">
          <h3>Containers</h3>
          <Tree :load="browse" :within="draft.within ?? []" :except="draft.except ?? []" @choose="choose" />
        </div>
        <div class="fields">
          <label for="groups">Groups, one per line; nested members are included</label>
          <Textarea id="groups" v-model="groups" rows="3" aria-describedby="groups-help" />
          <small id="groups-help" class="faint"
            >A line that starts with ! excludes the group’s members.</small
          >
          <label for="filter">Filter (LDAP or SCIM)</label>
          <InputText
            id="filter"
            :model-value="draft.filter ?? ''"
            placeholder="(&(employeeType=crew)(mail=*))"
            @update:model-value="(text) => (draft = { ...draft, filter: text || null })"
          />
          <p v-if="draft.conditions?.length" class="faint">
            {{ plural(draft.conditions.length, 'condition') }} of the rule file
            {{ draft.conditions.length === 1 ? 'is' : 'are' }} unchanged.
          </p>
        </div>
      </div>
      <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
      <div v-if="simulation" class="effect" aria-live="polite">
        <strong>Impact:</strong>
        {{ simulation.moves.length ? '' : 'no person changes status.' }}
        <span class="faint"
          >Then {{ simulation.totals.map((t) => `${t.count} ${scopeStatuses[t.status]}`).join(', ') }}.</span
        >
        <div class="two">
          <div v-for="one in simulation.moves" :key="`${one.from} ${one.to}`">
            <p>
              <strong :class="{ bad: one.to !== 'in' }">{{ one.count }}</strong> from
              {{ scopeStatuses[one.from] }} to
              <strong>{{ scopeStatuses[one.to] }}</strong>
            </p>
            <ul>
              <li v-for="line in one.lines.slice(0, 8)" :key="line.account ?? line.label">
                <bdi>{{ line.label }}</bdi>
                <span v-if="one.to !== 'in'" class="faint why">{{ line.reason.text }}</span>
              </li>
              <li v-if="one.count > 8" class="faint">… and {{ one.count - 8 }} more</li>
            </ul>
          </div>
        </div>
      </div>
      <div class="row">
        <Button label="Save and publish" :disabled="!simulation" @click="save" />
        <Button label="Cancel" severity="secondary" @click="editing = false" />
        <span v-if="!simulation && !fault" class="faint">Edit the scope to see its impact here.</span>
      </div>
    </section>

    <section class="sheet">
      <h2>By reason</h2>
      <p v-if="!view.data.value?.counts.length" class="faint">Nothing was read yet.</p>
      <ul class="reasons">
        <li
          v-for="count in view.data.value?.counts ?? []"
          :key="`${count.status} ${count.code} ${count.rule}`"
        >
          <button
            type="button"
            class="reason"
            :class="[count.status, { picked: isPicked(count) }]"
            :aria-pressed="isPicked(count)"
            @click="pick(count.status, count)"
          >
            <strong>{{ count.count }}</strong>
            <span class="word">{{ scopeStatuses[count.status] }}</span>
            <span class="wrap">{{ count.reason }}</span>
            <span class="faint mono">{{ count.rule ?? '' }}</span>
          </button>
        </li>
      </ul>
    </section>

    <section class="sheet">
      <div class="row spread">
        <h2>
          People <span class="faint">{{ view.data.value?.found }}</span>
        </h2>
        <InputText v-model="search" placeholder="Search" aria-label="Search people" />
      </div>
      <DataTable
        :value="[...(view.data.value?.lines ?? []), ...more]"
        size="small"
        scrollable
        scroll-height="24rem"
      >
        <template #empty>No matching people.</template>
        <Column header="Person">
          <template #body="{ data }">
            <RouterLink
              v-if="data.identity && data.status === 'in'"
              :to="{ name: 'identity', params: { id: data.identity } }"
              ><bdi>{{ data.label }}</bdi></RouterLink
            >
            <bdi v-else>{{ data.label }}</bdi>
          </template>
        </Column>
        <Column header="Status">
          <template #body="{ data }">{{ scopeStatuses[data.status as ScopeStatus] }}</template>
        </Column>
        <Column header="Why">
          <template #body="{ data }"
            ><span class="wrap">{{ data.reason.text }}</span></template
          >
        </Column>
        <Column header="Account">
          <template #body="{ data }"
            ><span class="wrap faint">{{ data.account }}</span></template
          >
        </Column>
      </DataTable>
      <Button v-if="next" label="Show more" size="small" severity="secondary" @click="showMore" />
    </section>
  </Fetched>
</template>

<style scoped>
.why {
  margin-left: 0.4rem;
}
.head {
  margin-bottom: 1rem;
}
.statuses {
  display: grid;
  grid-template-columns: repeat(3, 1fr);
  gap: 1rem;
  margin-bottom: 1rem;
}
.status,
.reason {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--line);
  border-left: 5px solid var(--line);
  text-align: left;
  cursor: pointer;
  padding: 0.5rem 0.8rem;
}
.status strong {
  font-size: 1.7rem;
  margin-right: 0.4rem;
  font-variant-numeric: tabular-nums;
}
.in {
  border-left-color: var(--good);
}
.out {
  border-left-color: var(--faint);
}
.on_hold {
  border-left-color: var(--lamp);
}
.picked {
  outline: 2px solid currentColor;
}
.reasons {
  list-style: none;
  padding: 0;
  margin: 0;
  display: grid;
  gap: 0.3rem;
}
.reason {
  width: 100%;
  display: grid;
  grid-template-columns: 3.2rem 6.5rem 1fr auto;
  gap: 0.6rem;
  align-items: baseline;
}
.reason strong {
  text-align: right;
  font-variant-numeric: tabular-nums;
}
.two {
  display: grid;
  grid-template-columns: 1.4fr 1fr;
  gap: 1.5rem;
}
.fields {
  display: grid;
  gap: 0.4rem;
  align-content: start;
}
.effect {
  border-top: 1px solid var(--line);
  margin: 0.8rem 0;
  padding-top: 0.6rem;
}
.bad {
  color: var(--bad);
}
</style>
