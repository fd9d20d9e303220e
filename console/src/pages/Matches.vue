<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { useToast } from 'primevue/usetoast'
import { computed, ref, watch } from 'vue'
import { api, take, type MatchStatus, type Schemas } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { useMore } from '@/components/more'
import { alone, open, pair, settled, sign, statuses } from '@/components/matching'

const props = defineProps<{ name: string }>()
const toast = useToast()
const path = () => ({ name: props.name })
const status = ref<MatchStatus | null>(null)
const search = ref('')
const query = computed(() => ({
  ...(status.value ? { status: status.value } : {}),
  ...(search.value ? { search: search.value } : {}),
  limit: 300,
}))
const read = (after?: string) => {
  const asked = after ? { ...query.value, after } : query.value
  return take(api.GET('/api/v1/systems/{name}/matches', { params: { path: path(), query: asked } }))
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
watch([status, search], () => {
  picked.value = []
  view.soon()
})
const count = (of: MatchStatus) => view.data.value?.counts.find((c) => c.status === of)?.count ?? 0
const waiting = computed(() => open.reduce((sum, one) => sum + count(one), 0))
const lines = computed(() => {
  const all = [...(view.data.value?.lines ?? []), ...more.value]
  return status.value || search.value ? all : all.filter((line) => open.includes(line.status))
})
/** Without a filter, only matches that need review are listed; they come first. */
const hasMore = computed(
  () => next.value && (status.value || search.value || lines.value.length < waiting.value),
)

const picked = ref<string[]>([])
const keyOf = (line: Schemas['MatchLine']) => `${line.status} ${line.identity ?? ''} ${line.account ?? ''}`
const chosen = computed(() => lines.value.filter((line) => picked.value.includes(keyOf(line))))
const single = computed(() => chosen.value.length > 0 && chosen.value.every((line) => line.candidates === 1))

const shown = ref<Schemas['MatchCase'] | null>(null)
const shownLine = ref<Schemas['MatchLine'] | null>(null)
const fault = ref('')
async function openCase(line: Schemas['MatchLine']) {
  fault.value = ''
  const about = line.identity ? { identity: line.identity } : { account: line.account ?? 0 }
  try {
    shown.value = await take(
      api.GET('/api/v1/systems/{name}/matches/case', { params: { path: path(), query: about } }),
    )
    shownLine.value = line
  } catch (problem) {
    fault.value = (problem as Error).message
  }
}
async function send(answers: Schemas['NewMatchAnswer'][], summary: string) {
  fault.value = ''
  try {
    await take(
      api.POST('/api/v1/systems/{name}/matches/answers', { params: { path: path() }, body: answers }),
    )
    toast.add({ severity: 'success', summary: `${summary}; nothing was sent`, life: 4000 })
    shown.value = null
    picked.value = []
    await view.load()
  } catch (problem) {
    fault.value = (problem as Error).message
  }
}
function answerPair(answer: 'join' | 'never', at: number) {
  const two = shown.value && pair(shown.value, at)
  if (two)
    void send([{ answer, ...two }], answer === 'join' ? 'They will be linked' : 'They will never be linked')
}
function answerOne(answer: 'new' | 'skip') {
  if (shownLine.value)
    void send([alone(shownLine.value, answer)], answer === 'new' ? 'A new one will be created' : 'Skipped')
}
async function answerChosen(answer: 'join' | 'new' | 'skip') {
  if (answer !== 'join')
    return send(
      chosen.value.map((line) => alone(line, answer)),
      `${chosen.value.length} answered`,
    )
  const answers: Schemas['NewMatchAnswer'][] = []
  for (const line of chosen.value) {
    await openCase(line)
    const two = shown.value && pair(shown.value, 0)
    if (two) answers.push({ answer, ...two })
  }
  return send(answers, `${answers.length} answered`)
}
async function takeBack(id: number) {
  await take(api.DELETE('/api/v1/matches/answers/{id}', { params: { path: { id } } }))
  await view.load()
}
</script>

<template>
  <h1>Matches in {{ name }}</h1>
  <Fetched :loading="view.loading.value" :error="view.error.value" @retry="view.load">
    <p v-if="waiting" class="lead">
      <strong>{{ waiting }}</strong>
      {{ waiting === 1 ? 'match needs' : 'matches need' }} review. Nothing is linked or created for them until
      you decide.
    </p>
    <p v-else class="lead">No match needs review.</p>
    <div class="numbers" role="group" aria-label="Status">
      <button
        v-for="one in [...open, ...settled]"
        v-show="count(one)"
        :key="one"
        type="button"
        class="number"
        :class="{ waits: (open as readonly string[]).includes(one), picked: status === one }"
        :aria-pressed="status === one"
        @click="status = status === one ? null : one"
      >
        <strong>{{ count(one) }}</strong> {{ statuses[one] }}
      </button>
    </div>
    <p v-if="view.data.value?.linked_by.length" class="faint by">
      Linked by
      <span v-for="(one, at) in view.data.value.linked_by" :key="one.basis"
        >{{ at ? ' · ' : '' }}{{ one.basis }}: {{ one.count }}</span
      >
    </p>
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>

    <section v-if="shown" class="sheet case" aria-label="Comparison">
      <h2>{{ shown.own.name }}</h2>
      <p>
        {{ shown.reason.text }} <span v-if="shown.rule" class="faint mono">{{ shown.rule }}</span>
      </p>
      <div class="wide">
        <table>
          <thead>
            <tr>
              <th>Value</th>
              <th>
                <bdi>{{ shown.own.name }}</bdi>
              </th>
              <th v-for="(side, at) in shown.candidates" :key="at">
                <bdi>{{ side.name }}</bdi>
              </th>
            </tr>
            <tr class="say">
              <td colspan="2"></td>
              <td v-for="(side, at) in shown.candidates" :key="at">
                <div class="row">
                  <Button size="small" label="Link these two" @click="answerPair('join', at)" />
                  <Button
                    size="small"
                    severity="secondary"
                    label="Never these two"
                    @click="answerPair('never', at)"
                  />
                </div>
              </td>
            </tr>
          </thead>
          <tbody>
            <tr v-for="row in shown.rows" :key="row.attribute">
              <th scope="row" class="mono">{{ row.attribute }}</th>
              <td>
                <bdi>{{ row.own }}</bdi>
              </td>
              <td v-for="(value, at) in row.theirs" :key="at" :class="sign(row.own, value).kind">
                <span class="sign" role="img" :aria-label="sign(row.own, value).label">{{
                  sign(row.own, value).mark
                }}</span>
                <bdi>{{ value.value }}</bdi>
              </td>
            </tr>
          </tbody>
        </table>
      </div>
      <div class="row">
        <Button
          size="small"
          severity="secondary"
          :label="shown.own.identity ? 'None: create a new account' : 'None: create a new identity'"
          @click="answerOne('new')"
        />
        <Button size="small" severity="secondary" label="Skip" @click="answerOne('skip')" />
        <Button size="small" severity="secondary" label="Close" @click="shown = null" />
      </div>
    </section>

    <div class="row tools">
      <label for="find">Find</label>
      <InputText id="find" v-model="search" placeholder="name, account or reason" />
      <template v-if="chosen.length">
        <span>{{ chosen.length }} selected:</span>
        <Button
          v-if="single"
          size="small"
          label="Link each to its only candidate"
          @click="answerChosen('join')"
        />
        <Button size="small" severity="secondary" label="Create new for each" @click="answerChosen('new')" />
        <Button size="small" severity="secondary" label="Skip each" @click="answerChosen('skip')" />
      </template>
    </div>
    <table v-if="lines.length" class="list">
      <thead>
        <tr>
          <th><span class="hidden">Selected</span></th>
          <th>Record</th>
          <th>Status</th>
          <th>Account</th>
          <th>Reason</th>
          <th><span class="hidden">Candidates</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in lines" :key="keyOf(line)">
          <td>
            <input
              v-if="line.status !== 'linked' && line.status !== 'skipped'"
              v-model="picked"
              type="checkbox"
              :value="keyOf(line)"
              :aria-label="`Select ${line.label}`"
            />
          </td>
          <td>
            <RouterLink
              v-if="line.identity && line.status === 'linked'"
              :to="{ name: 'identity', params: { id: line.identity } }"
              ><bdi>{{ line.label }}</bdi></RouterLink
            >
            <bdi v-else>{{ line.label }}</bdi>
          </td>
          <td>{{ statuses[line.status] }}</td>
          <td>
            <bdi>{{ line.account_name ?? '—' }}</bdi>
          </td>
          <td>{{ line.reason.text }}</td>
          <td>
            <Button v-if="line.candidates" size="small" label="Compare" @click="openCase(line)" />
          </td>
        </tr>
      </tbody>
    </table>
    <p v-else-if="status || search" class="faint">No matching records.</p>
    <Button v-if="hasMore" label="Show more" size="small" severity="secondary" @click="showMore" />

    <section v-if="view.data.value?.answers.length" class="sheet answers">
      <h2>Answers in effect</h2>
      <table class="list">
        <tbody>
          <tr v-for="answer in view.data.value.answers.slice(0, 50)" :key="answer.id">
            <td>{{ answer.answer }}</td>
            <td>
              <bdi>{{ answer.label }}</bdi>
            </td>
            <td>{{ answer.principal }}</td>
            <td class="faint">{{ answer.created_at.slice(0, 16).replace('T', ' ') }}</td>
            <td>
              <Button size="small" severity="secondary" label="Take back" @click="takeBack(answer.id)" />
            </td>
          </tr>
        </tbody>
      </table>
    </section>
  </Fetched>
</template>

<style scoped>
.lead {
  font-size: 1.05rem;
}
.numbers {
  display: flex;
  flex-wrap: wrap;
  gap: 0.5rem;
}
.number {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--line);
  padding: 0.4rem 0.8rem;
  cursor: pointer;
}
.number.waits {
  border-left: 4px solid var(--warn, #a85b00);
}
.number.picked {
  border-color: currentColor;
}
.by {
  margin: 0.5rem 0 0.8rem;
}
.tools {
  margin: 0.8rem 0;
  align-items: center;
}
table {
  width: 100%;
  border-collapse: collapse;
  font-size: 0.94rem;
}
th,
td {
  text-align: left;
  vertical-align: top;
  padding: 0.25rem 0.6rem;
  border-bottom: 1px solid var(--line);
}
.wide {
  overflow-x: auto;
}
.case {
  margin: 0.8rem 0;
}
.sign {
  display: inline-block;
  width: 1.2rem;
  font-variant-ligatures: none;
}
.list button {
  white-space: nowrap;
}
.other {
  background: color-mix(in srgb, var(--bad) 9%, transparent);
}
.answers {
  margin-top: 1.2rem;
}
.hidden {
  position: absolute;
  clip-path: inset(50%);
}
.bad {
  color: var(--bad);
}
</style>
