<script setup lang="ts">
/** Reads systems now, and reports the results. */
import Button from 'primevue/button'
import { useToast } from 'primevue/usetoast'
import { ref } from 'vue'
import { api, take } from '@/api/client'

const props = defineProps<{ systems: string[]; large?: boolean }>()
const emit = defineEmits<{ read: [] }>()
const toast = useToast()
const busy = ref(false)

async function read() {
  busy.value = true
  for (const name of props.systems) {
    try {
      const all = await take(api.POST('/api/v1/systems/{name}/read', { params: { path: { name } } }))
      const broken = all.find((one) => one.error)
      const found = all.reduce((sum, one) => sum + one.object_count, 0)
      toast.add(
        broken
          ? { severity: 'error', summary: `Reading ${name} failed: ${broken.error}`, life: 8000 }
          : { severity: 'success', summary: `${name}: ${found} objects read`, life: 4000 },
      )
    } catch (problem) {
      toast.add({ severity: 'error', summary: (problem as Error).message, life: 8000 })
    }
  }
  busy.value = false
  emit('read')
}
</script>

<template>
  <Button
    label="Read now"
    icon="pi pi-refresh"
    :size="large ? undefined : 'small'"
    severity="secondary"
    :loading="busy"
    :aria-label="`Read now: ${systems.join(', ')}`"
    @click="read"
  />
</template>
