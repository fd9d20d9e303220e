<script setup lang="ts">
import type { Schemas } from '@/api/client'

/** The differences between two rule sets, line by line. */
defineProps<{ files: Schemas['FileDifference'][] }>()
const signs = { added: '+', removed: '−', unchanged: ' ' }
</script>

<template>
  <p v-if="!files.length" class="faint">The rules are the same.</p>
  <section v-for="file in files" :key="file.name">
    <h2>
      <span class="mono">{{ file.name }}</span> <span class="faint">{{ file.state }}</span>
    </h2>
    <div class="lines mono" tabindex="0" role="region" :aria-label="`Differences in ${file.name}`">
      <div v-for="(line, at) in file.lines" :key="at" class="line" :class="line.change">
        <span class="number">{{ line.before ?? '' }}</span><span class="number">{{ line.after ?? '' }}</span
        ><span class="sign" :title="line.change">{{ signs[line.change] }}</span
        ><span class="text">{{ line.text }}</span>
      </div>
    </div>
  </section>
</template>

<style scoped>
.lines {
  border: 1px solid var(--line);
  background: var(--sheet);
  overflow: auto;
  max-height: 22rem;
  font-size: 0.82rem;
}
.line {
  display: flex;
  white-space: pre-wrap;
}
.added {
  background: var(--good-bg);
}
.removed {
  background: var(--bad-bg);
}
.number {
  flex: 0 0 2.6rem;
  text-align: right;
  color: var(--faint);
  padding-right: 0.5rem;
}
.sign {
  flex: 0 0 1.1rem;
  font-weight: 700;
}
.text {
  flex: 1;
  overflow-wrap: anywhere;
}
</style>
