<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref, watch } from 'vue'
import { api, take, type Schemas } from '@/api/client'

/** Evaluates an expression or a mapping on a real record. In a draft, again for each saved edition. */
const props = defineProps<{ systems: string[]; draft?: number; edition?: number }>()
const expression = ref('')
const on = ref('')
const system = ref('')
const evaluation = ref<Schemas['EvaluationView'] | null>(null)
const mapping = ref<Schemas['MappingEvaluationView'] | null>(null)
const fault = ref('')
let turn = 0
/** Evaluates while the operator types; late answers to earlier requests are ignored. */
async function evaluate() {
  const own = ++turn
  const isMapping = !expression.value.trim()
  if (!on.value.trim() || (isMapping && !system.value)) {
    evaluation.value = mapping.value = null
    fault.value = ''
    return
  }
  try {
    const body = { on: on.value, system: system.value, draft: props.draft ?? null }
    const mappingAnswer = isMapping ? await take(api.POST('/api/v1/rules/evaluate-mapping', { body })) : null
    const one = { ...body, expression: expression.value, system: system.value || null }
    const answer = isMapping ? null : await take(api.POST('/api/v1/rules/evaluate', { body: one }))
    if (own !== turn) return
    mapping.value = mappingAnswer
    evaluation.value = answer
    fault.value = ''
  } catch (problem) {
    if (own !== turn) return
    evaluation.value = mapping.value = null
    fault.value = (problem as Error).message
  }
}
let timer: ReturnType<typeof setTimeout> | undefined
watch([expression, on, system, () => props.edition], () => {
  clearTimeout(timer)
  timer = setTimeout(evaluate, 350)
})
const marked = computed(() => {
  const at = evaluation.value?.fault?.offset ?? 0
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
      Evaluate
      <span class="faint">an expression on a real record, or the whole mapping of a system</span>
    </h2>
    <div class="ask">
      <label for="expression">Expression</label>
      <InputText
        id="expression"
        v-model="expression"
        class="mono"
        placeholder="lower(joinWords(identity.givenName, identity.familyName))"
      />
      <label for="on">Record</label>
      <InputText id="on" v-model="on" placeholder="name, employee number or address" />
      <label for="evaluate-system">Available data</label>
      <select id="evaluate-system" v-model="system">
        <option value="">{{ expression.trim() ? 'the identity' : 'choose a system' }}</option>
        <option v-for="name in props.systems" :key="name" :value="name">
          {{ expression.trim() ? 'the identity and its account in' : 'the mapping of' }} {{ name }}
        </option>
      </select>
    </div>
    <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
    <div v-if="mapping" aria-live="polite">
      <p>
        Record
        <strong
          ><bdi>{{ mapping.label }}</bdi></strong
        ><span class="faint">, {{ mapping.account ?? 'no account there yet' }}</span>
      </p>
      <table>
        <thead>
          <tr>
            <th>Attribute</th>
            <th>Expression</th>
            <th>Result</th>
            <th>Current value</th>
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
                <div class="faint">{{ one.rule }}</div>
              </details>
            </td>
            <td :class="{ bad: one.fault, result: !one.fault }">
              <bdi>{{ one.fault ? one.fault.message : one.values.join(' · ') || 'no value' }}</bdi>
              <div v-if="one.note" class="faint">{{ one.note }}</div>
            </td>
            <td class="faint">
              <bdi>{{ one.current.join(' · ') || '—' }}</bdi>
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <div v-if="evaluation" aria-live="polite">
      <p>
        Record
        <strong
          ><bdi>{{ evaluation.label }}</bdi></strong
        ><span v-if="evaluation.account" class="faint">, {{ evaluation.account }}</span>
      </p>
      <div v-if="evaluation.fault" class="bad" role="alert">
        <pre class="mono">{{ marked.before }}<u>{{ marked.here }}</u>{{ marked.after }}</pre>
        {{ evaluation.fault.message
        }}<span v-if="evaluation.fault.help">. To do: {{ evaluation.fault.help }}</span>
      </div>
      <table v-if="evaluation.steps.length">
        <thead>
          <tr>
            <th>Subexpression</th>
            <th>Result</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="step in evaluation.steps" :key="step.text">
            <td class="mono">{{ step.text }}</td>
            <td class="mono">
              <bdi>{{ step.value }}</bdi>
            </td>
          </tr>
        </tbody>
      </table>
      <p v-if="!evaluation.fault" class="result">
        <template v-if="evaluation.values.length">= {{ evaluation.values.join(' · ') }}</template>
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
