<script setup lang="ts">
import { computed } from 'vue'
import { text, tone } from '@/words'

const props = defineProps<{ word: string }>()
const shown = computed(() => text(props.word))
</script>

<template>
  <span class="mark" :class="tone(props.word)">{{ shown }}</span>
</template>

<style scoped>
.mark {
  display: inline-block;
  padding: 0 0.45rem;
  font-size: 0.82rem;
  line-height: 1.55;
  white-space: nowrap;
  border-left: 3px solid currentColor;
}
.good {
  color: var(--good);
  background: var(--good-bg);
}
.wait {
  color: var(--wait);
  background: var(--wait-bg);
}
.bad {
  color: var(--bad);
  background: var(--bad-bg);
}
.calm {
  color: var(--calm);
  background: var(--calm-bg);
}
.plain {
  color: var(--faint);
  background: color-mix(in srgb, var(--line) 45%, transparent);
}
</style>
