<script setup lang="ts">
import Button from 'primevue/button'
import Skeleton from 'primevue/skeleton'
import type { Refusal } from '@/api/client'

/** Shows loading, an error, or the content. */
defineProps<{ loading: boolean; error: Refusal | null; empty?: boolean }>()
defineEmits<{ retry: [] }>()
</script>

<template>
  <div v-if="error" class="sheet trouble" role="alert">
    <strong>{{ error.message }}</strong>
    <p v-if="error.remedy">To do: {{ error.remedy }}</p>
    <Button label="Try again" size="small" severity="secondary" @click="$emit('retry')" />
  </div>
  <div v-else-if="loading" role="status" aria-busy="true" aria-label="Loading">
    <Skeleton v-for="n in 5" :key="n" height="1.6rem" class="bone" />
  </div>
  <div v-else-if="empty" class="sheet faint"><slot name="empty">Nothing yet.</slot></div>
  <slot v-else />
</template>

<style scoped>
.bone {
  margin-bottom: 0.6rem;
}
.trouble {
  border-left: 4px solid var(--bad);
}
</style>
