<script setup lang="ts">
import { api, take } from '@/api/client'
import { useFetched } from '@/components/fetched'
import { minute } from '@/words'

/** The groups of a person, or the members of a group, with the origin of each membership. */
const props = defineProps<{ id: string }>()
const { data, error } = useFetched(
  () => take(api.GET('/api/v1/identities/{id}/groups', { params: { path: { id: props.id } } })),
  (event) => event.event === 'change_set' && event.state === 'done',
)
const how = (origin: string, since: string | null | undefined) =>
  origin === 'rule'
    ? `rule, since ${minute(since)}`
    : origin === 'mapped'
      ? 'mapped from the source group'
      : 'manual'
</script>

<template>
  <p v-if="error" class="bad" role="alert">{{ error }}</p>
  <template v-else-if="data">
    <section
      v-for="part in [
        { title: 'Groups', all: data.groups, of: 'Group' },
        { title: `Members (${data.count})`, all: data.members, of: 'Member' },
      ].filter((part) => part.all.length)"
      :key="part.of"
      class="sheet"
    >
      <h2>{{ part.title }}</h2>
      <table class="plain">
        <thead>
          <tr>
            <th>System</th>
            <th>{{ part.of }}</th>
            <th>Origin</th>
            <th>Name in the system</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="one in part.all" :key="one.system + one.name">
            <td>{{ one.system }}</td>
            <td>
              <RouterLink v-if="one.identity" :to="{ name: 'identity', params: { id: one.identity } }">{{
                one.label
              }}</RouterLink>
              <template v-else>{{ one.label }}</template>
            </td>
            <td :class="{ faint: one.origin === 'mapped', hand: one.origin === 'manual' }">
              {{ how(one.origin, one.since) }}
            </td>
            <td class="mono wrap">{{ one.name }}</td>
          </tr>
        </tbody>
      </table>
    </section>
  </template>
</template>

<style scoped>
.hand {
  color: var(--wait);
}
.bad {
  color: var(--bad);
}
</style>
