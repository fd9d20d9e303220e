<script setup lang="ts">
/** When a system is read and written by itself, how it stands with that, and how to change it. */
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { computed, reactive, ref, watch } from 'vue'
import { api, take } from '@/api/client'
import type { Schemas } from '@/api/client'
import { time } from '@/words'

const props = defineProps<{ system: Schemas['System'] }>()
const emit = defineEmits<{ saved: [] }>()

const form = reactive({
  follow: false,
  every: '',
  full: '',
  quiet: false,
  from: '22:00',
  to: '06:00',
  zone: '',
  days: '',
})
const editing = ref(false)
const trouble = ref('')

function fill() {
  const { follow, every_seconds, full_every_seconds, quiet } = props.system.schedule
  const [window] = quiet ?? []
  form.follow = follow ?? false
  form.every = every_seconds ? String(every_seconds) : ''
  form.full = full_every_seconds ? String(full_every_seconds / 3600) : ''
  form.quiet = Boolean(window)
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

/** In one sentence, for who looks for five seconds. */
const said = computed(() => {
  const { schedule, armed, paused, following } = props.system
  if (!schedule.follow) return 'It is read and written when somebody starts a run.'
  if (!armed) return 'It will be followed as soon as it is armed.'
  if (paused) return 'It is paused: it is not followed, and nothing is sent to it.'
  if (following.some((one) => one.state === 'failed'))
    return 'The following broke off, and is begun again by itself.'
  if (!following.length) return 'The following begins.'
  return 'It is followed: what changes is carried on at once.'
})
const marks: Record<string, string> = { watching: 'well', waiting: 'well', reading: 'busy', failed: 'bad' }

async function save() {
  trouble.value = ''
  const number = (text: string, times: number) => (text.trim() ? Math.round(Number(text) * times) : null)
  const others = (props.system.schedule.quiet ?? []).slice(1)
  const days = form.days.split(/[\s,]+/).filter(Boolean)
  try {
    await take(
      api.PUT('/api/v1/systems/{name}/schedule', {
        params: { path: { name: props.system.name } },
        body: {
          follow: form.follow,
          way: props.system.schedule.way ?? null,
          every_seconds: number(form.every, 1),
          full_every_seconds: number(form.full, 3600),
          quiet: form.quiet ? [{ days, from: form.from, to: form.to, zone: form.zone }, ...others] : [],
        },
      }),
    )
    editing.value = false
    emit('saved')
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
}
function leave() {
  editing.value = false
  trouble.value = ''
  fill()
}
</script>

<template>
  <section class="sheet timing" aria-labelledby="timing">
    <div class="row spread">
      <h2 id="timing">By itself</h2>
      <Button v-if="!editing" label="Change when" size="small" severity="secondary" @click="editing = true" />
    </div>
    <p>{{ said }}</p>
    <p v-if="system.quiet_now" class="wait">Nothing is written to it now: {{ system.quiet_now }}.</p>
    <p v-else-if="system.next_quiet" class="faint">
      Nothing will be written to it from {{ time(system.next_quiet) }} on, for a while.
    </p>
    <template v-for="one in system.known ?? []" :key="one.object">
      <p v-for="text in one.hurry" :key="text" class="wait">Type {{ one.object }}: {{ text }}.</p>
    </template>
    <table v-if="system.following.length">
      <thead>
        <tr>
          <th>Type</th>
          <th>State</th>
          <th>How its changes are known</th>
          <th>Last news</th>
          <th>Asked again</th>
          <th>Read whole</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in system.following" :key="one.object">
          <td>{{ one.object }}</td>
          <td :class="marks[one.state]">{{ one.state }}</td>
          <td>
            {{ one.words }}
            <div v-if="one.error" class="bad">{{ one.error }}</div>
          </td>
          <td>
            {{ one.news ? time(one.news) : 'none yet' }}
            <div v-if="one.changed" class="faint">{{ one.changed }} changed since the start</div>
          </td>
          <td>{{ one.next ? time(one.next) : 'it tells by itself' }}</td>
          <td>{{ one.full ? time(one.full) : '—' }}</td>
        </tr>
      </tbody>
    </table>
    <form v-if="editing" @submit.prevent="save">
      <label
        ><input v-model="form.follow" type="checkbox" /> Follow its changes once it is armed, and run on
        each</label
      >
      <label>
        Asked every
        <InputText v-model="form.every" size="small" inputmode="numeric" placeholder="60" /> seconds, where it
        does not tell by itself
      </label>
      <label>
        Read whole every
        <InputText v-model="form.full" size="small" inputmode="decimal" placeholder="24" /> hours
      </label>
      <label><input v-model="form.quiet" type="checkbox" /> Nothing is written to it at certain times</label>
      <div v-if="form.quiet" class="row window">
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
        <Button label="Leave it as it is" size="small" severity="secondary" @click="leave" />
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
.well {
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
