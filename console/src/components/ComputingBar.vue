<script setup lang="ts">
import Button from 'primevue/button'
import ProgressBar from 'primevue/progressbar'
import { computed, onUnmounted, ref } from 'vue'
import { useLive } from '@/stores/live'

/** How far a decision about all records is. The service makes one at a time. */
defineProps<{ cancelable?: boolean }>()
const emit = defineEmits<{ cancel: [] }>()

const steps = ref({ done: 0, total: 0 })
const unsubscribe = useLive().listen((event) => {
  if (event.event === 'computing') steps.value = event
})
onUnmounted(unsubscribe)

const share = computed(() =>
  steps.value.total ? Math.min(99, Math.round((100 * steps.value.done) / steps.value.total)) : 0,
)
</script>

<template>
  <div class="computing" role="status">
    <ProgressBar :value="share" :mode="steps.total ? 'determinate' : 'indeterminate'" />
    <span class="faint">Deciding about all records</span>
    <Button v-if="cancelable" label="Cancel" size="small" text @click="emit('cancel')" />
  </div>
</template>

<style scoped>
.computing {
  display: flex;
  align-items: center;
  gap: 0.75rem;
  margin: 0.5rem 0;
}
.computing > :first-child {
  flex: 1 1 12rem;
  max-width: 28rem;
}
</style>
