<script setup lang="ts">
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { computed, ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, type HoldCause, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { useNow } from '@/components/now'
import { ago, causes, owners, plural } from '@/words'

/** Records on hold: why, since when, and who can end it. The filter is in the URL. */
const route = useRoute()
const router = useRouter()
const now = useNow()
const first = (value: unknown) => (typeof value === 'string' ? value : '')
const cause = computed(() => first(route.query.cause))
const system = computed(() => first(route.query.system))
const search = ref(first(route.query.search))

function choose(query: Record<string, string>) {
  const all = { cause: cause.value, system: system.value, search: search.value, ...query }
  const kept = Object.fromEntries(Object.entries(all).filter(([, value]) => value))
  void router.replace({ query: kept })
}

const { data, error, loading, load } = useFetched(
  () =>
    take(
      api.GET('/api/v1/holds', {
        params: {
          query: {
            cause: (cause.value || undefined) as HoldCause | undefined,
            system: system.value || undefined,
            search: search.value || undefined,
            limit: 200,
          },
        },
      }),
    ),
  (event) => event.event === 'attention_changed' || event.event === 'change_set',
)
watch(() => route.query, load)

const total = computed(() => (data.value?.counts ?? []).reduce((sum, one) => sum + one.count, 0))
const systems = computed(() => {
  const all = new Set((data.value?.items ?? []).flatMap((one) => one.systems))
  if (system.value) all.add(system.value)
  return [...all].sort()
})
</script>

<template>
  <Fetched :loading="loading" :error="error" @retry="load">
    <template v-if="data">
      <h1 class="verdict" :class="total ? 'wait' : 'good'">
        {{
          total ? `${plural(total, 'record')} ${total === 1 ? 'is' : 'are'} on hold.` : 'No records on hold.'
        }}
      </h1>
      <nav v-if="data.counts.length" class="row causes" aria-label="Causes">
        <button type="button" :aria-pressed="!cause" @click="choose({ cause: '' })">All</button>
        <button
          v-for="one in data.counts"
          :key="one.cause"
          type="button"
          :aria-pressed="cause === one.cause"
          @click="choose({ cause: one.cause })"
        >
          <strong>{{ one.count }}</strong> {{ causes[one.cause] }}
        </button>
      </nav>
      <div class="row filters">
        <InputText
          v-model="search"
          aria-label="Search names and reasons"
          placeholder="Search names and reasons"
          @change="choose({ search })"
        />
        <Select
          :model-value="system"
          placeholder="All systems"
          :options="[
            { label: 'All systems', value: '' },
            ...systems.map((name) => ({ label: name, value: name })),
          ]"
          option-label="label"
          option-value="value"
          aria-label="System"
          @update:model-value="(value: string) => choose({ system: value })"
        />
      </div>
      <div v-if="data.items.length" class="sheet scroll">
        <table class="plain">
          <thead>
            <tr>
              <th>Record</th>
              <th>Cause</th>
              <th>Reason</th>
              <th>Systems</th>
              <th>Since</th>
              <th>Who can end it</th>
            </tr>
          </thead>
          <tbody>
            <tr v-for="one in data.items" :key="`${one.label} ${one.cause} ${one.reason.text}`">
              <td>
                <RouterLink v-if="one.identity" :to="{ name: 'identity', params: { id: one.identity } }">
                  <bdi>{{ one.label }}</bdi>
                </RouterLink>
                <bdi v-else>{{ one.label }}</bdi>
              </td>
              <td class="cause">{{ causes[one.cause] }}</td>
              <td>
                <bdi>{{ one.reason.text }}</bdi>
                <span v-if="one.rule" class="faint mono rule">{{ one.rule }}</span>
              </td>
              <td>{{ one.systems.join(', ') }}</td>
              <td class="cause" :title="one.since">{{ ago(one.since, now) }}</td>
              <td>
                <RouterLink
                  v-if="['guard', 'awaiting_approval', 'external_change', 'failed'].includes(one.cause)"
                  :to="{ name: 'decisions' }"
                  >{{ owners[one.owner] }}</RouterLink
                >
                <RouterLink
                  v-else-if="one.cause === 'needs_review' && one.systems[0]"
                  :to="{ name: 'matches', params: { name: one.systems[0] } }"
                  >{{ owners[one.owner] }}</RouterLink
                >
                <template v-else>{{ owners[one.owner] }}</template>
              </td>
            </tr>
          </tbody>
        </table>
        <p v-if="data.next" class="faint">
          Showing the first {{ data.items.length }}. Choose a cause or search to see the others.
        </p>
      </div>
      <p v-else-if="total" class="sheet faint">No matches. Clear the search or choose another cause.</p>
    </template>
  </Fetched>
</template>

<style scoped>
.causes {
  gap: 0.4rem;
  flex-wrap: wrap;
  margin: 0.6rem 0;
}
.causes button {
  font: inherit;
  color: inherit;
  background: var(--sheet);
  border: 1px solid var(--line);
  padding: 0.25rem 0.7rem;
  cursor: pointer;
}
.causes button[aria-pressed='true'] {
  border-color: currentColor;
  box-shadow: inset 0 -3px 0 var(--lamp);
}
.filters {
  gap: 0.6rem;
  margin-bottom: 0.8rem;
}
.scroll {
  overflow-x: auto;
}
.cause {
  white-space: nowrap;
}
.rule {
  margin-left: 0.5rem;
}
</style>
