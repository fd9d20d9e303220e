<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'
import { api, take, type Schemas } from '@/api/client'

/** In a draft it is tried anew with each edition that is saved. */
const props = defineProps<{ systems: string[]; draft?: number; edition?: number }>()
const expression = ref('')
const on = ref('')
const system = ref('')
const trial = ref<Schemas['Trial'] | null>(null)
const mapping = ref<Schemas['MappingTrial'] | null>(null)
const fault = ref('')
let turn = 0
/** Tried while it is typed: the last answer counts, and an earlier one that comes late does not. */
async function tryIt() {
  const own = ++turn
  const whole = !expression.value.trim()
  if (!on.value.trim() || (whole && !system.value)) {
    trial.value = mapping.value = null
    fault.value = ''
    return
  }
  try {
    const body = { on: on.value, system: system.value, draft: props.draft ?? null }
    const tried = whole ? await take(api.POST('/api/v1/rules/try-mapping', { body })) : null
    const one = { ...body, expression: expression.value, system: system.value || null }
    const answer = whole ? null : await take(api.POST('/api/v1/rules/try', { body: one }))
    if (own !== turn) return
    mapping.value = tried
    trial.value = answer
    fault.value = ''
  } catch (problem) {
    if (own !== turn) return
    trial.value = mapping.value = null
    fault.value = (problem as Error).message
  }
}
let timer: ReturnType<typeof setTimeout> | undefined
watch([expression, on, system, () => props.edition], () => {
  clearTimeout(timer)
  timer = setTimeout(tryIt, 350)
})
const marked = computed(() => {
  const at = trial.value?.fault?.offset ?? 0
  const letters = [...expression.value]
  return {
    before: letters.slice(0, at).join(''),
    here: letters[at] ?? ' ',
    after: letters.slice(at + 1).join(''),
  }
})
</script>

<template>
  <section class="sheet">
    <h2>
      Try it
      <span class="faint">on a real record: an expression, or a system’s whole mapping without one</span>
    </h2>
    <div class="ask">
      <label for="expression">Expression</label>
      <InputText
        id="expression"
        v-model="expression"
        class="mono"
        placeholder="lower(words(identity.givenName, identity.familyName))"
      />
      <label for="on">On</label>
      <InputText id="on" v-model="on" placeholder="a name, an employee number, an address" />
      <label for="trial-system">It may read</label>
      <select id="trial-system" v-model="system">
        <option value="">{{ expression.trim() ? 'the identity' : 'choose a system' }}</option>
        <option v-for="name in props.systems" :key="name" :value="name">
          {{ expression.trim() ? 'the identity, and the account in' : 'the whole mapping of' }} {{ name }}
        </option>
      </select>
    </div>
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
    <div v-if="mapping" aria-live="polite">
      <p>
        On
        <strong
          ><bdi>{{ mapping.label }}</bdi></strong
        ><span class="faint">, {{ mapping.account ?? 'who has no account there yet' }}</span>
      </p>
      <table>
        <thead>
          <tr>
            <th>Attribute</th>
            <th>Expression</th>
            <th>Gives</th>
            <th>There now</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in mapping.attributes" :key="one.direction + one.attribute">
            <td>
              {{ one.attribute }}
              <span v-if="one.direction === 'inbound'" class="faint">of the identity</span>
            </td>
            <td class="mono">
              <details>
                <summary>{{ one.expression }}</summary>
                <div v-for="step in one.steps" :key="step.text" class="faint">
                  {{ step.text }} = <bdi>{{ step.value }}</bdi>
                </div>
                <div class="faint">{{ one.place }}</div>
              </details>
            </td>
            <td :class="{ bad: one.fault, result: !one.fault }">
              <bdi>{{ one.fault ? one.fault.message : one.values.join(' · ') || 'no value' }}</bdi>
              <div v-if="one.note" class="faint">{{ one.note }}</div>
            </td>
            <td class="faint">
              <bdi>{{ one.there.join(' · ') || '—' }}</bdi>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <div v-if="trial" aria-live="polite">
      <p>
        On
        <strong
          ><bdi>{{ trial.label }}</bdi></strong
        ><span v-if="trial.account" class="faint">, {{ trial.account }}</span>
      </p>
      <div v-if="trial.fault" class="bad" role="alert">
        <pre class="mono">{{ marked.before }}<u>{{ marked.here }}</u>{{ marked.after }}</pre>
        {{ trial.fault.message }}<span v-if="trial.fault.help">. To do: {{ trial.fault.help }}</span>
      </div>
      <table v-if="trial.steps.length">
        <thead>
          <tr>
            <th>Part</th>
            <th>Gives</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="step in trial.steps" :key="step.text">
            <td class="mono">{{ step.text }}</td>
            <td class="mono">
              <bdi>{{ step.value }}</bdi>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="!trial.fault" class="result">
        <template v-if="trial.values.length">= {{ trial.values.join(' · ') }}</template>
        <template v-else>no value</template>
      </p>
    </div>
  </section>
</template>

<style scoped>
.ask {
  display: grid;
  grid-template-columns: 8rem 1fr;
  gap: 0.45rem 1rem;
  align-items: center;
}
select {
  font: inherit;
  padding: 0.35rem;
  background: var(--sheet);
  color: inherit;
  border: 1px solid var(--line);
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
  padding: 0.2rem 0.6rem;
  border-bottom: 1px solid var(--line);
}
pre {
  margin: 0;
  white-space: pre-wrap;
}
u {
  text-decoration: underline wavy;
}
.result {
  font-weight: 600;
}
.bad {
  color: var(--bad);
}
</style>
