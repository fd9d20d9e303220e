<script setup lang="ts">
import Button from 'primevue/button'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import RadioButton from 'primevue/radiobutton'
import { computed, ref, watch } from 'vue'
import type { Schemas } from '@/api/client'
import { api, take } from '@/api/client'
import Mark from '@/components/Mark.vue'
import { minute, plural } from '@/words'

/** Starts or schedules a departure. Its impact is shown first. */
const props = defineProps<{ id: string; label: string }>()
const visible = defineModel<boolean>('visible', { required: true })
const emit = defineEmits<{ left: [] }>()

const starts = [
  { code: 'now', text: 'Now' },
  { code: 'later', text: 'After the last day' },
]
const start = ref('now')
const day = ref('')
const comment = ref('')
const impact = ref<Schemas['DepartureImpactView'] | null>(null)
const refused = ref('')
const sending = ref(false)
const path = computed(() => ({ path: { id: props.id } }))
const last = computed(() => (start.value === 'later' ? day.value.trim() : ''))
const ready = computed(() => impact.value !== null && (start.value === 'now' || last.value !== ''))

async function load() {
  impact.value = null
  refused.value = ''
  if (start.value === 'later' && !last.value) return
  try {
    impact.value = await take(
      api.GET('/api/v1/identities/{id}/departure', {
        params: { ...path.value, query: last.value ? { last_day: last.value } : {} },
      }),
    )
  } catch (problem) {
    refused.value = (problem as Error).message
  }
}
watch([visible, start, last], () => visible.value && void load())

async function depart() {
  sending.value = true
  try {
    const body = { comment: comment.value, at: null, last_day: last.value || null }
    await take(api.PUT('/api/v1/identities/{id}/departure', { params: path.value, body }))
    visible.value = false
    emit('left')
  } catch (problem) {
    refused.value = (problem as Error).message
  } finally {
    sending.value = false
  }
}
</script>

<template>
  <Dialog v-model:visible="visible" modal :header="`Departure of ${label}`" :style="{ width: '50rem' }">
    <div class="row">
      <label v-for="one in starts" :key="one.code" class="row way">
        <RadioButton v-model="start" name="when" :value="one.code" :input-id="`when-${one.code}`" />
        {{ one.text }}
      </label>
      <InputText v-if="start === 'later'" v-model.lazy="day" placeholder="2026-12-31" aria-label="Last day" />
      <InputText
        v-model="comment"
        class="grow"
        placeholder="Reason (recorded in the journal)"
        aria-label="Reason"
      />
    </div>
    <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
    <template v-if="impact">
      <h3>
        {{ plural(impact.changes.length, 'change') }} on {{ minute(impact.at) }}, sent before all others
      </h3>
      <table v-if="impact.changes.length" class="plain">
        <thead>
          <tr>
            <th>Step</th>
            <th>System</th>
            <th>Change</th>
            <th>Values</th>
            <th>On hold</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(change, n) in impact.changes" :key="n">
            <td>{{ change.step || '—' }}</td>
            <td>{{ change.system }}</td>
            <td><Mark :word="change.kind" /></td>
            <td>{{ change.values.join(', ') }}</td>
            <td>{{ change.hold?.text ?? '—' }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else class="faint">No changes in any system at that moment.</p>
      <h3>Afterwards</h3>
      <p v-for="note in impact.notes" :key="note.system" class="after">
        <strong>{{ note.system }}</strong> {{ note.message }}
      </p>
    </template>
    <template #footer>
      <Button label="Cancel" severity="secondary" @click="visible = false" />
      <Button
        :label="start === 'now' ? 'Start departure now' : 'Schedule departure'"
        severity="danger"
        :disabled="!ready"
        :loading="sending"
        @click="depart"
      />
    </template>
  </Dialog>
</template>

<style scoped>
.way {
  gap: 0.35rem;
}
.after {
  margin: 0.2rem 0;
}
.bad {
  color: var(--bad);
}
</style>
