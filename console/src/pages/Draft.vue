<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import { useToast } from 'primevue/usetoast'
import { computed, onBeforeUnmount, ref, useTemplateRef, watch } from 'vue'
import { onBeforeRouteLeave, useRouter } from 'vue-router'
import { Refusal, api, take, type Schemas } from '@/api/client'
import ComputingBar from '@/components/ComputingBar.vue'
import RuleDifference from '@/components/RuleDifference.vue'
import RuleImpact from '@/components/RuleImpact.vue'
import RuleText from '@/components/RuleText.vue'
import EvaluateRule from '@/components/EvaluateRule.vue'
import { plural, time } from '@/words'

const props = defineProps<{ id: string }>()
const router = useRouter()
const toast = useToast()
const path = computed(() => ({ path: { id: Number(props.id) } }))
const draft = ref<Schemas['Draft'] | null>(null)
const files = ref<Schemas['RuleFile'][]>([])
const chosen = ref('')
const trouble = ref('')
/** Another operator saved the draft: the error, until this operator decides whose text to keep. */
const conflict = ref('')
const impact = ref<Schemas['ImpactView'] | null>(null)
const working = ref(false)
const computing = ref<AbortController | null>(null)
const asking = ref(false)
const panel = ref<'impact' | 'difference' | 'evaluate'>('impact')
const editor = useTemplateRef<{ show: (line: number) => void }>('editor')

const current = computed(() => files.value.find((file) => file.name === chosen.value))
const text = computed({
  get: () => current.value?.text ?? '',
  set: (value: string) => {
    if (current.value) current.value.text = value
  },
})
const saved = ref('')
const dirty = computed(() => JSON.stringify(files.value) !== saved.value)
const faultsOf = (name: string) =>
  dirty.value ? [] : (draft.value?.faults ?? []).filter((fault) => fault.file === name)
const differs = (name: string) => draft.value?.differences.some((file) => file.name === name) ?? false
const errors = computed(() => draft.value?.faults.filter((fault) => fault.severity === 'error').length ?? 0)
const systems = computed(() =>
  files.value
    .map((file) => /^\s*system\s*=\s*"([^"]+)"/m.exec(file.text)?.[1])
    .filter((name): name is string => name !== undefined),
)

function adopt(fresh: Schemas['Draft']) {
  draft.value = fresh
  files.value = fresh.files.map((file) => ({ ...file }))
  saved.value = JSON.stringify(files.value)
  if (!current.value)
    chosen.value =
      fresh.differences[0]?.name ??
      fresh.files.find((file) => file.text.includes('system ='))?.name ??
      fresh.files[0]?.name ??
      ''
}

async function perform(act: () => Promise<void>) {
  working.value = true
  trouble.value = ''
  try {
    await act()
  } catch (problem) {
    if (problem instanceof Refusal && problem.status === 409 && dirty.value) conflict.value = problem.message
    else trouble.value = (problem as Error).message
  } finally {
    working.value = false
  }
}

const load = () =>
  perform(async () => adopt(await take(api.GET('/api/v1/rules/drafts/{id}', { params: path.value }))))
void load()

let timer: ReturnType<typeof setTimeout> | undefined
/** Saves shortly after the last edit; the answer contains the errors to underline. */
async function save(over?: number) {
  clearTimeout(timer)
  if (!draft.value || (!dirty.value && over === undefined)) return
  const sent = JSON.stringify(files.value)
  const body = { edition: over ?? draft.value.edition, files: files.value }
  await perform(async () => {
    const fresh = await take(api.PUT('/api/v1/rules/drafts/{id}', { params: path.value, body }))
    conflict.value = ''
    // Edits made in the meantime are kept.
    if (JSON.stringify(files.value) === sent) adopt(fresh)
    else {
      draft.value = fresh
      saved.value = sent
    }
    impact.value = null
  })
}
watch(
  files,
  () => {
    clearTimeout(timer)
    if (dirty.value && !conflict.value) timer = setTimeout(() => void save(), 700)
  },
  { deep: true },
)
onBeforeUnmount(() => clearTimeout(timer))
onBeforeRouteLeave(async () => {
  if (dirty.value && !conflict.value) await save()
})

async function theirs() {
  conflict.value = ''
  await load()
}
async function mine() {
  const fresh = await take(api.GET('/api/v1/rules/drafts/{id}', { params: path.value }))
  conflict.value = ''
  await save(fresh.edition)
}

async function showImpact() {
  await save()
  panel.value = 'impact'
  // The service ends the computation when the request is given up.
  const request = new AbortController()
  computing.value = request
  await perform(async () => {
    const { signal } = request
    impact.value = await take(api.POST('/api/v1/rules/drafts/{id}/impact', { params: path.value, signal }))
  })
  if (request.signal.aborted) trouble.value = ''
  computing.value = null
}
async function ask() {
  if (!impact.value) await showImpact()
  asking.value = impact.value !== null
}
async function publish() {
  await perform(async () => {
    const body = { edition: draft.value?.edition ?? 0 }
    const done = await take(api.POST('/api/v1/rules/drafts/{id}/publish', { params: path.value, body }))
    toast.add({
      severity: 'success',
      summary: `Published as version ${done.version}`,
      detail: 'Nothing was sent.',
      life: 6000,
    })
    saved.value = JSON.stringify(files.value)
    await router.push({ name: 'rules' })
  })
  asking.value = false
}
const rebase = () =>
  perform(async () => adopt(await take(api.POST('/api/v1/rules/drafts/{id}/rebase', { params: path.value }))))
async function discard() {
  await perform(async () => {
    await take(api.DELETE('/api/v1/rules/drafts/{id}', { params: path.value }))
    saved.value = JSON.stringify(files.value)
    await router.push({ name: 'rules' })
  })
}
function show(fault: Schemas['Fault']) {
  chosen.value = fault.file
  setTimeout(() => editor.value?.show(fault.line), 50)
}
</script>

<template>
  <div v-if="draft" class="row spread">
    <div>
      <h1>
        Draft: <bdi>{{ draft.name }}</bdi>
      </h1>
      <p class="faint">
        From version {{ draft.base }} ·
        <span role="status">{{
          working
            ? 'working…'
            : dirty
              ? 'not saved yet'
              : `saved ${time(draft.changed_at)} by ${draft.changed_by}`
        }}</span>
        · a draft has no effect until it is published.
      </p>
    </div>
    <div class="row">
      <Button label="Discard draft" severity="secondary" size="small" @click="discard" />
      <Button
        label="Show impact"
        severity="secondary"
        size="small"
        :disabled="working || errors > 0"
        @click="showImpact"
      />
      <Button
        label="Publish…"
        size="small"
        :disabled="working || errors > 0 || !draft.differences.length"
        @click="ask"
      />
    </div>
  </div>
  <p v-if="trouble" class="sheet trouble" role="alert">{{ trouble }}</p>
  <div v-if="conflict" class="sheet trouble" role="alert">
    <strong>{{ conflict }}</strong>
    <div class="row">
      <Button label="Load their text, discard mine" severity="secondary" size="small" @click="theirs" />
      <Button label="Overwrite with mine" severity="danger" size="small" @click="mine" />
    </div>
  </div>
  <div v-if="draft && draft.base !== draft.published" class="sheet trouble">
    Version {{ draft.published }} was published after this draft was created.
    <Button label="Rebase" size="small" severity="secondary" @click="rebase" />
  </div>
  <div v-if="draft?.changed_in_both?.length" class="sheet trouble">
    Changed in the draft and in the published rules; the draft’s version was kept:
    <strong>{{ draft.changed_in_both.join(', ') }}</strong>
  </div>

  <div v-if="draft" class="desk">
    <nav class="files" aria-label="Files">
      <button
        v-for="file in files"
        :key="file.name"
        type="button"
        :aria-current="file.name === chosen"
        @click="chosen = file.name"
      >
        <span class="mono">{{ file.name }}</span>
        <span
          v-if="faultsOf(file.name).length"
          class="mark bad"
          :title="`${faultsOf(file.name).length} findings`"
          >{{ faultsOf(file.name).length }}</span
        >
        <span v-else-if="differs(file.name)" class="mark" title="changed">•</span>
      </button>
    </nav>
    <div class="text">
      <RuleText
        v-if="current"
        ref="editor"
        v-model="text"
        :name="current.name"
        :faults="faultsOf(current.name)"
      />
      <ul v-if="!dirty && draft.faults.length" class="faults">
        <li v-for="(fault, at) in draft.faults" :key="at" :class="fault.severity">
          <button type="button" class="mono" @click="show(fault)">
            {{ fault.file }}:{{ fault.line }}:{{ fault.column }}
          </button>
          {{ fault.message }}<span v-if="fault.help" class="faint"> · {{ fault.help }}</span>
        </li>
      </ul>
      <p v-else-if="!dirty" class="faint">No errors or warnings. All examples pass.</p>
    </div>
  </div>

  <section v-if="draft" class="sheet">
    <div class="row tabs" role="group" aria-label="View">
      <button type="button" :aria-pressed="panel === 'impact'" @click="panel = 'impact'">Impact</button>
      <button type="button" :aria-pressed="panel === 'difference'" @click="panel = 'difference'">
        Differences<span v-if="draft.differences.length"> ({{ draft.differences.length }})</span>
      </button>
      <button type="button" :aria-pressed="panel === 'evaluate'" @click="panel = 'evaluate'">Evaluate</button>
    </div>
    <template v-if="panel === 'impact'">
      <ComputingBar v-if="computing" cancelable @cancel="computing.abort()" />
      <RuleImpact v-if="impact" :impact="impact" :sides="['Published', 'This draft']" />
      <p v-else-if="errors" class="faint">Correct {{ plural(errors, 'error') }} first.</p>
      <p v-else class="faint">
        Decides the same records by the published rules and by this draft, and shows where the outcomes
        differ.
        <Button
          label="Show impact"
          size="small"
          severity="secondary"
          :disabled="working"
          @click="showImpact"
        />
      </p>
    </template>
    <RuleDifference v-else-if="panel === 'difference'" :files="draft.differences" />
    <EvaluateRule v-else :systems="systems" :draft="draft.id" :edition="draft.edition" />
  </section>

  <Dialog v-model:visible="asking" modal header="Publish this draft?" :style="{ width: '44rem' }">
    <RuleImpact v-if="impact" :impact="impact" :sides="['Published', 'This draft']" />
    <p class="faint">Publishing sends nothing. The next preview or run uses these rules.</p>
    <template #footer>
      <Button label="Cancel" severity="secondary" @click="asking = false" />
      <Button label="Publish" :disabled="working" @click="publish" />
    </template>
  </Dialog>
</template>

<style scoped>
.desk {
  display: grid;
  grid-template-columns: 11rem 1fr;
  gap: 0.8rem;
  margin: 0.6rem 0 1rem;
}
.text {
  min-width: 0;
}
.files {
  display: flex;
  flex-direction: column;
}
.files button {
  font: inherit;
  text-align: left;
  padding: 0.35rem 0.6rem;
  background: none;
  border: 0;
  border-left: 4px solid transparent;
  color: inherit;
  cursor: pointer;
  display: flex;
  justify-content: space-between;
}
.files button[aria-current='true'] {
  border-left-color: var(--lamp);
  background: var(--sheet);
}
.mark {
  font-weight: 700;
}
.mark.bad {
  color: var(--bad);
}
.faults {
  margin: 0.5rem 0;
  padding-left: 0;
  list-style: none;
  font-size: 0.92rem;
}
.faults li {
  padding: 0.15rem 0.5rem;
  border-left: 4px solid var(--lamp);
  margin-bottom: 0.2rem;
}
.faults li.error {
  border-left-color: var(--bad);
}
.faults button {
  background: none;
  border: 0;
  padding: 0;
  color: var(--p-primary-color);
  text-decoration: underline;
  cursor: pointer;
}
.tabs {
  margin-bottom: 0.8rem;
  border-bottom: 1px solid var(--line);
}
.tabs button {
  font: inherit;
  background: none;
  border: 0;
  border-bottom: 3px solid transparent;
  padding: 0.3rem 0.6rem;
  color: inherit;
  cursor: pointer;
}
.tabs button[aria-pressed='true'] {
  border-bottom-color: var(--lamp);
  font-weight: 650;
}
.trouble {
  border-left: 4px solid var(--bad);
  margin: 0.5rem 0;
}
</style>
