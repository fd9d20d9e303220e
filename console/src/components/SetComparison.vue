<script setup lang="ts">
/** Compares this preview or run with another one. */
import { computed, ref, watch } from 'vue'
import { api, take } from '@/api/client'
import type { Schemas } from '@/api/client'
import ChangeList from '@/components/ChangeList.vue'
import { useFetched } from '@/components/fetched'
import { plural, time } from '@/words'

const props = defineProps<{ id: number }>()
const sets = useFetched(() => take(api.GET('/api/v1/change-sets')).then((page) => page.items))
const others = computed(() => (sets.data.value ?? []).filter((set) => set.id !== props.id))
const other = ref('')
const comparison = ref<Schemas['ChangeComparison'] | null>(null)
const trouble = ref('')

watch(other, async (chosen) => {
  comparison.value = null
  trouble.value = ''
  if (!chosen) return
  try {
    const path = { id: props.id, other: Number(chosen) }
    comparison.value = await take(api.GET('/api/v1/change-sets/{id}/compare/{other}', { params: { path } }))
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
})
</script>

<template>
  <details v-if="others.length" class="sheet compare">
    <summary>Compare with another preview or run</summary>
    <label>
      Compare with
      <select v-model="other" aria-label="The preview or run to compare with">
        <option value="">choose one</option>
        <option v-for="set in others" :key="set.id" :value="String(set.id)">
          {{ set.kind }} {{ set.id }}, {{ time(set.started_at) }}
        </option>
      </select>
    </label>
    <p v-if="trouble" class="bad" role="alert">{{ trouble }}</p>
    <template v-if="comparison">
      <p>{{ plural(comparison.same, 'change') }} in both.</p>
      <template v-if="comparison.only_here.length">
        <h3>Only here ({{ comparison.only_here.length }})</h3>
        <ChangeList :changes="comparison.only_here" />
      </template>
      <template v-if="comparison.only_there.length">
        <h3>Only in {{ other }} ({{ comparison.only_there.length }})</h3>
        <ChangeList :changes="comparison.only_there" />
      </template>
    </template>
  </details>
</template>

<style scoped>
.compare {
  margin-top: 1rem;
}
summary {
  cursor: pointer;
}
label {
  display: block;
  margin-top: 0.8rem;
}
</style>
