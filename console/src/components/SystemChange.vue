<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import Textarea from 'primevue/textarea'
import { useToast } from 'primevue/usetoast'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, Refusal, take, type Schemas, type System } from '@/api/client'
import { plural } from '@/words'
import { fields, settingsFrom, type Field } from './settings'

/** Edits the settings of a system, replaces its secret, or retires the system. */
const props = defineProps<{ system: System }>()
const emit = defineEmits<{ changed: [] }>()
const toast = useToast()
const router = useRouter()
const path = () => ({ path: { name: props.system.name } })
const fault = ref('')
function report(problem: unknown) {
  fault.value =
    problem instanceof Refusal && problem.remedy
      ? `${problem.message}. To do: ${problem.remedy}`
      : (problem as Error).message
}

const editing = ref(false)
const form = ref<Field[]>([])
const secret = ref('')
function edit() {
  form.value = fields(props.system.all_settings ?? {})
  secret.value = ''
  fault.value = ''
  editing.value = true
}
async function save() {
  fault.value = ''
  try {
    const settings = settingsFrom(form.value, props.system.settings) as Schemas['NewSettings']['settings']
    await take(
      api.PUT('/api/v1/systems/{name}/settings', {
        params: path(),
        body: { settings, secret: secret.value || null },
      }),
    )
    editing.value = false
    toast.add({ severity: 'success', summary: 'Settings saved. Test the connection.', life: 5000 })
    emit('changed')
  } catch (problem) {
    report(problem)
  }
}

const replacing = ref(false)
const failed = ref(false)
function replace() {
  secret.value = ''
  fault.value = ''
  failed.value = false
  replacing.value = true
}
async function sendSecret(force: boolean) {
  fault.value = ''
  try {
    await take(
      api.PUT('/api/v1/systems/{name}/secret', { params: path(), body: { secret: secret.value, force } }),
    )
    secret.value = ''
    replacing.value = false
    toast.add({
      severity: 'success',
      summary: force ? 'Secret replaced untested' : 'Secret tested and replaced',
      life: 4000,
    })
    emit('changed')
  } catch (problem) {
    failed.value = true
    report(problem)
  }
}

const retiring = ref(false)
const impact = ref<Schemas['Retirement'] | null>(null)
async function askToRetire() {
  impact.value = null
  fault.value = ''
  retiring.value = true
  try {
    impact.value = await take(api.GET('/api/v1/systems/{name}/retirement', { params: path() }))
  } catch (problem) {
    report(problem)
  }
}
async function retire() {
  try {
    await take(api.DELETE('/api/v1/systems/{name}', { params: { ...path(), query: { retire: true } } }))
    retiring.value = false
    toast.add({ severity: 'success', summary: `${props.system.name} was retired`, life: 4000 })
    await router.push({ name: 'systems' })
  } catch (problem) {
    report(problem)
  }
}
/** The impact on identities and on other systems. */
const elsewhere = computed(() =>
  (impact.value?.impact.systems ?? []).filter((one) => one.system !== props.system.name),
)
const hasSecret = computed(() => props.system.kind !== 'push')
</script>

<template>
  <div class="row change">
    <Button
      v-if="system.kind !== 'push'"
      label="Edit settings…"
      size="small"
      severity="secondary"
      @click="edit"
    />
    <Button v-if="hasSecret" label="Replace secret…" size="small" severity="secondary" @click="replace" />
    <Button label="Retire…" size="small" severity="secondary" @click="askToRetire" />
  </div>
  <Dialog v-model:visible="editing" modal :header="`Settings of ${system.name}`" :style="{ width: '44rem' }">
    <form class="grid" @submit.prevent="save">
      <template v-for="field in form" :key="field.name">
        <label :for="`setting-${field.name}`" class="mono">{{ field.name }}</label>
        <input
          v-if="field.kind === 'flag'"
          :id="`setting-${field.name}`"
          v-model="field.flag"
          type="checkbox"
        />
        <Textarea
          v-else-if="['lines', 'pem', 'json'].includes(field.kind)"
          :id="`setting-${field.name}`"
          v-model="field.text"
          rows="2"
          auto-resize
          class="mono"
          :placeholder="
            { lines: 'one per line', pem: '-----BEGIN CERTIFICATE-----', json: 'JSON' }[field.kind as 'lines']
          "
        />
        <InputText v-else :id="`setting-${field.name}`" v-model="field.text" />
      </template>
      <template v-if="hasSecret">
        <label for="setting-secret">Secret</label>
        <InputText
          id="setting-secret"
          v-model="secret"
          type="password"
          autocomplete="new-password"
          placeholder="unchanged; required if it would be sent to another host"
        />
      </template>
    </form>
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
    <p class="faint">After a change of settings the system is read in full.</p>
    <div class="row">
      <Button label="Save" @click="save" />
      <Button label="Cancel" severity="secondary" @click="editing = false" />
    </div>
  </Dialog>
  <Dialog
    v-model:visible="replacing"
    modal
    :header="`Replace the secret of ${system.name}?`"
    :style="{ width: '32rem' }"
  >
    <p>The connection is tested with the new secret first. The old one stays until that test passes.</p>
    <InputText
      v-model="secret"
      type="password"
      autocomplete="new-password"
      aria-label="New secret"
      placeholder="or env:NAME, file:PATH"
      class="wide"
      @keyup.enter="sendSecret(false)"
    />
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
    <div class="row">
      <Button label="Test and replace" :disabled="!secret" @click="sendSecret(false)" />
      <Button
        v-if="failed"
        label="Replace untested"
        severity="danger"
        :disabled="!secret"
        @click="sendSecret(true)"
      />
      <Button label="Cancel" severity="secondary" @click="replacing = false" />
    </div>
  </Dialog>
  <Dialog v-model:visible="retiring" modal :header="`Retire ${system.name}?`" :style="{ width: '40rem' }">
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
    <p v-else-if="!impact">Computing the impact…</p>
    <template v-if="impact">
      <p>
        The records of {{ plural(impact.accounts, 'account') }} of {{ system.name }} are deleted,
        {{ impact.linked }} of them linked.
        <template v-if="impact.file">
          <span class="mono">{{ impact.file }}</span> is removed, as a new version of the rules.
        </template>
        Nothing is written to {{ system.name }} itself. Its history stays in the journal.
      </p>
      <p v-if="!elsewhere.length">Nothing changes in other systems.</p>
      <ul v-else>
        <li v-for="one in elsewhere" :key="one.system ?? ''">
          <strong>{{ one.system ?? 'identities' }}</strong>: {{ plural(one.values, 'value') }} of
          {{ plural(one.accounts, 'record') }}
          <template v-if="one.verdicts.length">
            ·
            {{
              one.verdicts
                .map((v) => `${v.count} ${v.before.replaceAll('_', ' ')} → ${v.after.replaceAll('_', ' ')}`)
                .join(', ')
            }}
          </template>
        </li>
      </ul>
      <div class="row">
        <Button :label="`Retire ${system.name}`" severity="danger" @click="retire" />
        <Button label="Cancel" severity="secondary" @click="retiring = false" />
      </div>
    </template>
  </Dialog>
</template>

<style scoped>
.change {
  margin: 0.8rem 0 1rem;
}
.grid {
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 0.5rem 1rem;
  align-items: center;
}
.grid input[type='checkbox'] {
  justify-self: start;
}
.wide {
  width: 100%;
}
.bad {
  color: var(--bad);
}
</style>
