<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { minute, plural, span } from '@/words'

/** Leavers, how fast their access was closed, and what is still open. */
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/leavers')),
  (event) => event.event === 'change_set' || event.event === 'attention_changed',
)
const sentence = computed(() => {
  const all = data.value
  if (!all) return { text: '', tone: '' }
  if (all.open)
    return {
      text: `${plural(all.open, 'leaver')} still ${all.open === 1 ? 'has' : 'have'} access.`,
      tone: 'bad',
    }
  if (all.median_seconds == null) return { text: 'No leavers yet.', tone: 'good' }
  return {
    text: `All access of leavers is closed: median ${span(all.median_seconds)}, slowest ${span(all.worst_seconds ?? 0)}.`,
    tone: 'good',
  }
})
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <h1 class="verdict" :class="sentence.tone">{{ sentence.text }}</h1>
      <section v-if="data.planned.length" class="sheet">
        <h2>Scheduled by operators</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Name</th>
              <th>Departure</th>
              <th>Operator</th>
              <th>Comment</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.planned" :key="one.identity">
              <td>
                <RouterLink :to="{ name: 'identity', params: { id: one.identity } }">{{
                  one.label
                }}</RouterLink>
              </td>
              <td>{{ minute(one.at) }}</td>
              <td>{{ one.by }}</td>
              <td>{{ one.comment }}</td>
            </tr>
          </tbody>
        </table>
      </section>
      <section v-if="data.leavers.length" class="sheet">
        <h2>Leavers</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Name</th>
              <th>Due</th>
              <th>Closed after</th>
              <th>Changes</th>
              <th>Open access</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.leavers" :key="one.identity + one.started_at">
              <td>
                <RouterLink :to="{ name: 'identity', params: { id: one.identity } }">{{
                  one.label
                }}</RouterLink>
              </td>
              <td>{{ minute(one.started_at) }}</td>
              <td>
                <span v-if="one.returned_at" class="faint">returned {{ minute(one.returned_at) }}</span>
                <strong v-else-if="one.seconds != null">{{ span(one.seconds) }}</strong>
                <span v-else-if="!one.open.length" class="faint">no access to close</span>
                <strong v-else class="bad">not yet</strong>
              </td>
              <td>{{ one.done }}</td>
              <td>
                <div v-for="access in one.open" :key="access.system + access.kind" class="bad">
                  {{ access.system }}: {{ access.kind }}. {{ access.reason.text }}
                </div>
                <span v-if="!one.open.length" class="faint">—</span>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
      <p class="faint">
        Measured from the moment the departure was due, or was first seen in a source, until the last system
        confirmed.
      </p>
    </template>
  </Fetched>
</template>

<style scoped>
td .bad,
td.bad,
.bad {
  color: var(--bad);
}
h1.bad {
  color: inherit;
}
</style>
