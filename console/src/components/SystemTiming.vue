<script setup lang="ts">
/** The sync schedule of a system: its status, and how to change it. */
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, reactive, ref, watch } from 'vue'
import { api, take } from '@/api/client'
import type { Schemas } from '@/api/client'
import { time } from '@/words'

const props = defineProps<{ system: Schemas['System'] }>()
const emit = defineEmits<{ saved: [] }>()

const form = reactive({
  watch: false,
  poll: '',
  full: '',
  blackout: false,
  from: '22:00',
  to: '06:00',
  zone: '',
  days: '',
})
const editing = ref(false)
const trouble = ref('')

function fill() {
  const { watch, poll_seconds, full_read_seconds, write_blackouts } = props.system.schedule
  const [window] = write_blackouts ?? []
  form.watch = watch ?? false
  form.poll = poll_seconds ? String(poll_seconds) : ''
  form.full = full_read_seconds ? String(full_read_seconds / 3600) : ''
  form.blackout = Boolean(window)
  form.from = window?.from ?? '22:00'
  form.to = window?.to ?? '06:00'
  form.zone = window?.zone ?? Intl.DateTimeFormat().resolvedOptions().timeZone
  form.days = (window?.days ?? []).join(', ')
}
watch(
  () => JSON.stringify(props.system.schedule),
  () => !editing.value && fill(),
  { immediate: true },
)

/** The status in one sentence. */
const summary = computed(() => {
  const { schedule, armed, paused, watchers } = props.system
  if (!schedule.watch) return 'Manual: read and written only when an operator starts a run.'
  if (!armed) return 'Automatic sync starts when the system is armed.'
  if (paused) return 'Paused: changes are not watched, and nothing is sent.'
  if (watchers.some((one) => one.state === 'failed'))
    return 'Watching failed. The service reconnects automatically.'
  if (!watchers.length) return 'Automatic sync is starting.'
  return 'Automatic sync: changes are processed as they arrive.'
})
const marks: Record<string, string> = { watching: 'good', waiting: 'good', reading: 'busy', failed: 'bad' }

async function save() {
  trouble.value = ''
  const number = (text: string, times: number) => (text.trim() ? Math.round(Number(text) * times) : null)
  const others = (props.system.schedule.write_blackouts ?? []).slice(1)
  const days = form.days.split(/[\s,]+/).filter(Boolean)
  try {
    await take(
      api.PUT('/api/v1/systems/{name}/schedule', {
        params: { path: { name: props.system.name } },
        body: {
          watch: form.watch,
          mode: props.system.schedule.mode ?? null,
          poll_seconds: number(form.poll, 1),
          full_read_seconds: number(form.full, 3600),
          write_blackouts: form.blackout
            ? [{ days, from: form.from, to: form.to, zone: form.zone }, ...others]
            : [],
        },
      }),
    )
    editing.value = false
    emit('saved')
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
}
function cancel() {
  editing.value = false
  trouble.value = ''
  fill()
}
</script>

<template>
  <section class="sheet timing" aria-labelledby="timing">
    <div class="row spread">
      <h2 id="timing">Schedule</h2>
      <Button
        v-if="!editing"
        label="Edit schedule"
        size="small"
        severity="secondary"
        @click="editing = true"
      />
    </div>
    <p>{{ summary }}</p>
    <p v-if="system.blackout_until" class="wait">Write blackout: {{ system.blackout_until }}.</p>
    <p v-else-if="system.next_blackout" class="faint">
      The next write blackout starts at {{ time(system.next_blackout) }}.
    </p>
    <template v-for="one in system.freshness ?? []" :key="one.object">
      <p v-for="text in one.schedule_warnings" :key="text" class="wait">Type {{ one.object }}: {{ text }}.</p>
    </template>
    <table v-if="system.watchers.length">
      <thead>
        <tr>
          <th>Type</th>
          <th>State</th>
          <th>Watch mode</th>
          <th>Last change</th>
          <th>Next poll</th>
          <th>Next full read</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in system.watchers" :key="one.object">
          <td>{{ one.object }}</td>
          <td :class="marks[one.state]">{{ one.state }}</td>
          <td>
            {{ one.watch_mode_label }}
            <div v-if="one.error" class="bad">{{ one.error }}</div>
          </td>
          <td>
            {{ one.last_change_at ? time(one.last_change_at) : 'none yet' }}
            <div v-if="one.changed_count" class="faint">
              {{ one.changed_count }} since the service started
            </div>
          </td>
          <td>{{ one.next_poll_at ? time(one.next_poll_at) : 'not polled' }}</td>
          <td>{{ one.next_full_read_at ? time(one.next_full_read_at) : '—' }}</td>
        </tr>
      </tbody>
    </table>
    <form v-if="editing" @submit.prevent="save">
      <label
        ><input v-model="form.watch" type="checkbox" /> Automatic sync: watch its changes and process each,
        once it is armed</label
      >
      <label>
        Poll every
        <InputText v-model="form.poll" size="small" inputmode="numeric" placeholder="60" /> seconds, if it
        does not report changes
      </label>
      <label>
        Full read every
        <InputText v-model="form.full" size="small" inputmode="decimal" placeholder="24" /> hours
      </label>
      <label
        ><input v-model="form.blackout" type="checkbox" /> Write blackout: send nothing in this window</label
      >
      <div v-if="form.blackout" class="row window">
        <label>from <InputText v-model="form.from" size="small" /></label>
        <label>to <InputText v-model="form.to" size="small" /></label>
        <label>zone <InputText v-model="form.zone" size="small" /></label>
        <label
          >only on <InputText v-model="form.days" size="small" placeholder="every day, or sat, sun"
        /></label>
      </div>
      <p v-if="trouble" class="bad" role="alert">{{ trouble }}</p>
      <div class="row">
        <Button type="submit" label="Save" size="small" />
        <Button label="Cancel" size="small" severity="secondary" @click="cancel" />
      </div>
    </form>
  </section>
</template>

<style scoped>
.timing {
  margin-top: 1rem;
}
table {
  width: 100%;
  border-collapse: collapse;
}
th,
td {
  text-align: left;
  vertical-align: top;
  padding: 0.25rem 1rem 0.25rem 0;
}
th {
  font-weight: 400;
  color: var(--faint);
}
.good {
  color: var(--good);
}
.wait {
  border-left: 4px solid var(--lamp);
  padding-left: 0.6rem;
}
form {
  display: grid;
  gap: 0.7rem;
  margin-top: 0.8rem;
}
form :deep(input.p-inputtext) {
  width: 8rem;
}
.window {
  gap: 1rem;
  flex-wrap: wrap;
}
</style>
