<script setup lang="ts">
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import type { Schemas } from '@/api/client'

/** The impact of a rule change: in one sentence, by system, and record by record. */
const props = defineProps<{ impact: Schemas['ImpactView']; sides: [string, string] }>()
const search = ref('')
const system = ref('')
const nothing = computed(() => props.impact.total === 0)
const name = (of: string | null | undefined) => of ?? 'identities'
const lines = computed(() => {
  const wanted = search.value.trim().toLowerCase()
  return props.impact.lines.filter(
    (line) =>
      (!system.value || name(line.system) === system.value) &&
      (!wanted ||
        [line.label, line.attribute ?? '', line.before, line.after].some((text) =>
          text.toLowerCase().includes(wanted),
        )),
  )
})
const SHOWN = 200
</script>

<template>
  <p class="summary" :class="{ calm: nothing }" role="status">{{ impact.message }}</p>
  <div v-if="!nothing">
    <div class="row counts">
      <button
        v-for="one in impact.systems"
        :key="name(one.system)"
        type="button"
        class="count"
        :aria-pressed="system === name(one.system)"
        @click="system = system === name(one.system) ? '' : name(one.system)"
      >
        <strong>{{ name(one.system) }}</strong>
        <span v-if="one.values">{{ one.values }} {{ one.values === 1 ? 'value' : 'values' }}</span>
        <span v-for="verdict in one.verdicts" :key="verdict.before + verdict.after"
          >{{ verdict.count }} {{ verdict.before }} → {{ verdict.after }}</span
        >
      </button>
      <InputText v-model="search" placeholder="Search" aria-label="Search names, attributes and values" />
    </div>
    <table class="plain">
      <thead>
        <tr>
          <th>Record</th>
          <th>System</th>
          <th>Attribute</th>
          <th>{{ sides[0] }}</th>
          <th>{{ sides[1] }}</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(line, at) in lines.slice(0, SHOWN)" :key="at">
          <td>
            <RouterLink v-if="line.identity" :to="{ name: 'identity', params: { id: line.identity } }"
              ><bdi>{{ line.label }}</bdi></RouterLink
            ><bdi v-else>{{ line.label }}</bdi>
          </td>
          <td>{{ name(line.system) }}</td>
          <td>
            <template v-if="line.attribute">{{ line.attribute }}</template>
            <span v-else class="faint" :title="line.reason.text">account</span>
          </td>
          <td class="went">
            <bdi>{{ line.before }}</bdi>
          </td>
          <td class="came">
            <bdi>{{ line.after }}</bdi>
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!lines.length" class="faint">No matching lines.</p>
    <p v-else-if="lines.length > SHOWN || impact.total > impact.lines.length" class="faint">
      {{ Math.min(lines.length, SHOWN) }} of {{ impact.total }} are shown. Search to find others.
    </p>
  </div>
</template>

<style scoped>
.summary {
  font-size: 1.1rem;
  font-weight: 650;
  margin: 0 0 0.6rem;
}
.summary.calm {
  font-weight: 400;
}
.counts {
  margin-bottom: 0.6rem;
}
.count {
  font: inherit;
  display: inline-flex;
  gap: 0.6rem;
  padding: 0.3rem 0.7rem;
  background: var(--calm-bg);
  color: inherit;
  border: 1px solid var(--line);
  cursor: pointer;
}
.count[aria-pressed='true'] {
  border-color: var(--calm);
  box-shadow: inset 0 -3px 0 var(--calm);
}
.went {
  color: var(--faint);
}
.came {
  font-weight: 600;
}
</style>
