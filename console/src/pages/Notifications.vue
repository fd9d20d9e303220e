<script setup lang="ts">
import { computed } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { minute, plural } from '@/words'

/** Notifications that rules sent to managers, owners of groups and newcomers. */
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/notifications')),
  (event) => event.event === 'change_set' || event.event === 'attention_changed',
)
const sentence = computed(() => {
  const all = data.value ?? []
  if (!all.length) return { text: 'No notifications yet. notifications.toml declares them.', tone: '' }
  const stuck = all.filter((one) => one.error && !one.sent_at)
  if (stuck.length)
    return {
      text: `${plural(stuck.length, 'notification')} not delivered yet. Delivery is retried.`,
      tone: 'wait',
    }
  return { text: `${plural(all.length, 'notification')}, each sent once.`, tone: 'good' }
})
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <h1 class="verdict" :class="sentence.tone">{{ sentence.text }}</h1>
      <section v-if="data.length" class="sheet">
        <h2>Notifications</h2>
        <table class="plain">
          <thead>
            <tr>
              <th>Created</th>
              <th>Event</th>
              <th>Person</th>
              <th>Recipients</th>
              <th>Text</th>
              <th>Delivery</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data" :key="one.id">
              <td>{{ minute(one.created_at) }}</td>
              <td>
                {{ one.event }}<span v-if="one.about" class="faint"> · {{ one.about }}</span>
              </td>
              <td>
                <RouterLink :to="{ name: 'identity', params: { id: one.identity } }">{{
                  one.label
                }}</RouterLink>
              </td>
              <td>{{ one.recipients.join(', ') }}</td>
              <td>{{ one.text }}</td>
              <td>
                <span v-if="one.sent_at">{{ one.webhook }}, {{ minute(one.sent_at) }}</span>
                <span v-else-if="one.error" class="bad">{{ one.error }}</span>
                <span v-else-if="one.webhook" class="faint">pending: {{ one.webhook }}</span>
                <span v-else class="faint">console only</span>
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
