<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import type { Schemas } from '@/api/client'
import { api, take } from '@/api/client'
import { ago } from '@/words'

/** The emergency stop for all writes: sets it after confirmation, shows it, and lifts it. */
defineProps<{ stop: Schemas['WriteStop'] | null | undefined }>()
const emit = defineEmits<{ changed: [] }>()

const asking = ref(false)
const reason = ref('')
const failed = ref('')
const sending = ref(false)

async function send(call: () => Promise<unknown>) {
  sending.value = true
  failed.value = ''
  try {
    await call()
    asking.value = false
    reason.value = ''
    emit('changed')
  } catch (problem) {
    failed.value = (problem as Error).message
  } finally {
    sending.value = false
  }
}
const set = () => send(() => take(api.PUT('/api/v1/write-stop', { body: { reason: reason.value } })))
const lift = () => send(() => take(api.DELETE('/api/v1/write-stop')))
</script>

<template>
  <div v-if="stop" class="sheet stopped row spread" role="alert">
    <div>
      <strong>All writes are stopped.</strong> Set by <bdi>{{ stop.principal }}</bdi> {{ ago(stop.created_at)
      }}<template v-if="stop.reason"
        >: <bdi>{{ stop.reason }}</bdi></template
      >. Nothing is sent to any system.
      <p v-if="failed" class="bad">{{ failed }}</p>
    </div>
    <Button label="Resume writes" icon="pi pi-play" :loading="sending" @click="lift" />
  </div>
  <Button
    v-else
    label="Stop all writes…"
    icon="pi pi-stop-circle"
    severity="secondary"
    variant="outlined"
    class="stop"
    @click="asking = true"
  />
  <Dialog v-model:visible="asking" modal header="Stop all writes" :style="{ width: '36rem' }">
    <p>
      Nothing is sent to any system until you resume writes, even after a restart. Queued changes are canceled
      and decided again later. Requests that were already sent cannot be recalled. Meanwhile, leavers keep
      their access.
    </p>
    <InputText
      v-model="reason"
      class="wide"
      maxlength="500"
      placeholder="Reason (recorded in the journal, shown to all operators)"
      aria-label="Reason"
    />
    <p v-if="failed" class="bad" role="alert">{{ failed }}</p>
    <template #footer>
      <Button label="Cancel" severity="secondary" @click="asking = false" />
      <Button label="Stop all writes" severity="danger" :loading="sending" @click="set" />
    </template>
  </Dialog>
</template>

<style scoped>
.stopped {
  border-left: 4px solid var(--bad);
  margin-bottom: 1rem;
}
.stop.p-button {
  color: var(--bad);
  border-color: var(--bad);
}
.wide {
  width: 100%;
}
.bad {
  color: var(--bad);
}
</style>
