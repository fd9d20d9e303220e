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

/** Has somebody leave, now or after a last day. What would be done is shown first. */
const props = defineProps<{ id: string; label: string }>()
const visible = defineModel<boolean>('visible', { required: true })
const emit = defineEmits<{ left: [] }>()

const ways = [
  { word: 'now', text: 'Now' },
  { word: 'later', text: 'After a last day' },
]
const way = ref('now')
const day = ref('')
const comment = ref('')
const effect = ref<Schemas['DepartureEffect'] | null>(null)
const refused = ref('')
const sending = ref(false)
const path = computed(() => ({ path: { id: props.id } }))
const last = computed(() => (way.value === 'later' ? day.value.trim() : ''))
const ready = computed(() => effect.value !== null && (way.value === 'now' || last.value !== ''))

async function look() {
  effect.value = null
  refused.value = ''
  if (way.value === 'later' && !last.value) return
  try {
    effect.value = await take(
      api.GET('/api/v1/identities/{id}/departure', {
        params: { ...path.value, query: last.value ? { last_day: last.value } : {} },
      }),
    )
  } catch (problem) {
    refused.value = (problem as Error).message
  }
}
watch([visible, way, last], () => visible.value && void look())

async function leave() {
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
  <Dialog v-model:visible="visible" modal :header="`${label} leaves`" :style="{ width: '50rem' }">
    <div class="row">
      <label v-for="one in ways" :key="one.word" class="row way">
        <RadioButton v-model="way" name="when" :value="one.word" :input-id="`when-${one.word}`" />
        {{ one.text }}
      </label>
      <InputText
        v-if="way === 'later'"
        v-model.lazy="day"
        placeholder="2026-12-31"
        aria-label="The last day"
      />
      <InputText
        v-model="comment"
        class="grow"
        placeholder="Why? It is kept in the journal."
        aria-label="Why"
      />
    </div>
    <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
    <template v-if="effect">
      <h3>{{ plural(effect.changes.length, 'change') }} on {{ minute(effect.at) }}, before all other work</h3>
      <table v-if="effect.changes.length" class="plain">
        <thead>
          <tr>
            <th>Step</th>
            <th>System</th>
            <th>Change</th>
            <th>Values</th>
            <th>Waits for</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(change, n) in effect.changes" :key="n">
            <td>{{ change.step || '—' }}</td>
            <td>{{ change.system }}</td>
            <td><Mark :word="change.kind" /></td>
            <td>{{ change.values.join(', ') }}</td>
            <td>{{ change.hold ?? '—' }}</td>
          </tr>
        </tbody>
      </table>
      <p v-else class="faint">Nothing is to be changed in any system at that moment.</p>
      <h3>Afterwards</h3>
      <p v-for="account in effect.accounts" :key="account.system" class="after">
        <strong>{{ account.system }}</strong> {{ account.said }}
      </p>
    </template>
    <template #footer>
      <Button label="Not now" severity="secondary" @click="visible = false" />
      <Button
        :label="way === 'now' ? 'Close their access now' : 'Have them leave then'"
        severity="danger"
        :disabled="!ready"
        :loading="sending"
        @click="leave"
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
