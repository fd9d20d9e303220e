<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { minute, plural } from '@/words'

/** What rules told to whom: managers, owners of groups, newcomers. */
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/told')),
  (event) => event.event === 'change_set' || event.event === 'noticed',
)
const sentence = computed(() => {
  const all = data.value ?? []
  if (!all.length) return { text: 'Nothing was told yet: notices.toml says what is told to whom.', tone: '' }
  const stuck = all.filter((one) => one.error && !one.sent)
  if (stuck.length)
    return { text: `${plural(stuck.length, 'notice')} could not be carried yet.`, tone: 'wait' }
  return { text: `${plural(all.length, 'notice')}, each told once.`, tone: 'good' }
})
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <h1 class="verdict" :class="sentence.tone">{{ sentence.text }}</h1>
      <section v-if="data.length" class="sheet">
        <h2>What was told to whom</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Noticed</th>
              <th>What</th>
              <th>About</th>
              <th>Told to</th>
              <th>Text</th>
              <th>Carried</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data" :key="one.id">
              <td>{{ minute(one.made) }}</td>
              <td>
                {{ one.event }}<span v-if="one.about" class="faint"> · {{ one.about }}</span>
              </td>
              <td>
                <RouterLink :to="{ name: 'identity', params: { id: one.identity } }">{{
                  one.label
                }}</RouterLink>
              </td>
              <td>{{ one.to.join(', ') }}</td>
              <td>{{ one.text }}</td>
              <td>
                <span v-if="one.sent">by {{ one.call }}, {{ minute(one.sent) }}</span>
                <span v-else-if="one.error" class="bad">{{ one.error }}</span>
                <span v-else-if="one.call" class="faint">waits for {{ one.call }}</span>
                <span v-else class="faint">told here</span>
              </td>
            </tr>
          </tbody>
        </table>
      </section>
    </template>
  </Fetched>
</template>

<style scoped>
.bad {
  color: var(--bad);
}
</style>
