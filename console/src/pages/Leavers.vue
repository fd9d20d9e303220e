<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { minute, plural, span } from '@/words'

/** Who left, how fast their access was closed, and what is still open. */
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/leavers')),
  (event) => event.event === 'change_set' || event.event === 'noticed',
)
const sentence = computed(() => {
  const all = data.value
  if (!all) return { text: '', tone: '' }
  if (all.open) return { text: `${plural(all.open, 'leaver')} can still get in somewhere.`, tone: 'bad' }
  if (all.median_seconds == null) return { text: 'Nobody left yet.', tone: 'good' }
  return {
    text: `Every way in is closed: in ${span(all.median_seconds)} (median), ${span(all.worst_seconds ?? 0)} at worst.`,
    tone: 'good',
  }
})
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <h1 class="verdict" :class="sentence.tone">{{ sentence.text }}</h1>
      <section v-if="data.planned.length" class="sheet">
        <h2>Leave by somebody’s word</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Name</th>
              <th>Leaves</th>
              <th>By</th>
              <th>Why</th>
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
        <h2>Who left</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Name</th>
              <th>To be closed from</th>
              <th>Closed after</th>
              <th>Changes</th>
              <th>Still open</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.leavers" :key="one.identity + one.started">
              <td>
                <RouterLink :to="{ name: 'identity', params: { id: one.identity } }">{{
                  one.label
                }}</RouterLink>
              </td>
              <td>{{ minute(one.started) }}</td>
              <td>
                <span v-if="one.returned" class="faint">back on {{ minute(one.returned) }}</span>
                <strong v-else-if="one.seconds != null">{{ span(one.seconds) }}</strong>
                <span v-else-if="!one.open.length" class="faint">nothing to close</span>
                <strong v-else class="bad">not yet</strong>
              </td>
              <td>{{ one.done }}</td>
              <td>
                <div v-for="way in one.open" :key="way.system + way.kind" class="bad">
                  {{ way.system }}: {{ way.kind }}. {{ way.why }}
                </div>
                <span v-if="!one.open.length" class="faint">—</span>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
      <p class="faint">
        The clock runs from the moment that was due, or in which a source showed it, to the last system’s
        confirmation.
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
