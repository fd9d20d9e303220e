<script setup lang="ts">
import type { Schemas } from '@/api/client'
import Mark from './Mark.vue'

/** The steps of a test, each with its result and what to do. */
defineProps<{ steps: Schemas['CheckStep'][]; running?: boolean }>()
</script>

<template>
  <ol aria-live="polite">
    <li v-for="(step, n) in steps" :key="n">
      <Mark :word="step.state" />
      <span
        ><strong>{{ step.name }}</strong> <span class="wrap">{{ step.message }}</span>
        <div v-if="step.remedy" class="todo">To do: {{ step.remedy }}</div></span
      >
    </li>
    <li v-if="running" class="faint"><span>…</span><span>running the next step</span></li>
  </ol>
</template>

<style scoped>
ol {
  list-style: none;
  padding: 0;
  margin: 0;
  display: grid;
  gap: 0.45rem;
}
li {
  display: grid;
  grid-template-columns: 5.4rem 1fr;
  align-items: baseline;
  justify-items: start;
}
.todo {
  font-weight: 600;
}
</style>
