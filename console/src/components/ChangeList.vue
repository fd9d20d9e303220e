<script setup lang="ts">
import type { Change } from '@/api/client'
import { plural, time, values } from '@/words'
import Mark from './Mark.vue'

defineProps<{ changes: Change[]; nameless?: boolean }>()
</script>

<template>
  <details v-for="change in changes" :key="change.id" class="change" :open="changes.length < 4">
    <summary>
      <Mark :word="change.kind" />
      <Mark :word="change.state" />
      <strong v-if="!nameless"
        ><bdi>{{ change.label }}</bdi></strong
      >
      <span class="faint">in {{ change.system }}</span>
      <span v-if="nameless" class="faint">
        {{ time(change.settled_at) }}
        <template v-if="change.principal">by {{ change.principal }}</template>
      </span>
      <span class="grow">{{ change.reason.text }}</span>
      <span class="faint mono">{{ change.rule }}</span>
    </summary>
    <p v-if="change.hold" class="hold">On hold: {{ change.hold.text }}</p>
    <p v-if="change.error" :class="change.state === 'failed' ? 'error' : 'hold'">
      {{ change.error }}<template v-if="change.remedy"> — to do: {{ change.remedy }}</template>
    </p>
    <table class="plain">
      <thead>
        <tr>
          <th>Attribute</th>
          <th>Before</th>
          <th>After</th>
          <th>Rule</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="value in change.values" :key="value.attribute">
          <td>{{ value.attribute }}</td>
          <td class="before">{{ values(value.before) }}</td>
          <td class="after">{{ values(value.after) }}</td>
          <td class="faint mono">{{ value.rule }}</td>
        </tr>
      </tbody>
    </table>
    <p class="faint small">
      <template v-if="nameless"
        ><RouterLink :to="{ name: 'change-set', params: { id: change.change_set } }"
          >run {{ change.change_set }}</RouterLink
        >
        ·
      </template>
      change {{ change.id }} · {{ plural(change.attempts, 'attempt') }} · finished
      {{ time(change.settled_at) }}
    </p>
  </details>
</template>

<style scoped>
.change {
  border-bottom: 1px solid var(--line);
  padding: 0.45rem 0;
}
summary {
  display: flex;
  gap: 0.6rem;
  align-items: baseline;
  cursor: pointer;
  flex-wrap: wrap;
}
summary .grow {
  min-width: 12rem;
}
table {
  margin: 0.5rem 0 0 1rem;
  width: calc(100% - 1rem);
}
.before {
  color: var(--faint);
  text-decoration: line-through;
  text-decoration-thickness: 1px;
}
.after {
  font-weight: 600;
}
.hold {
  color: var(--wait);
  margin: 0.4rem 0 0 1rem;
}
.error {
  color: var(--bad);
  margin: 0.4rem 0 0 1rem;
}
.small {
  font-size: 0.82rem;
  margin: 0.3rem 0 0 1rem;
}
</style>
