<script setup lang="ts">
import Button from 'primevue/button'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { api, take } from '@/api/client'
import type { components } from '@/api/schema'
import { useFetched } from '@/components/fetched'
import { minute } from '@/words'

/** The holders of a role: a page at a time, by name. */
const { role } = defineProps<{ role: string }>()
const emit = defineEmits<{ revoke: [id: string] }>()
const search = ref('')
const more = ref<components['schemas']['RoleHolder'][]>([])
const next = ref<string | null | undefined>(null)
const ask = (after?: string) =>
  take(
    api.GET('/api/v1/roles/{name}/holders', {
      params: { path: { name: role }, query: { search: search.value, after, limit: 100 } },
    }),
  )
const { data, error, load } = useFetched(
  async () => {
    const page = await ask()
    more.value = []
    next.value = page.next
    return page
  },
  (event) => event.event === 'change_set',
)

async function showMore() {
  if (!next.value) return
  const page = await ask(next.value)
  more.value = [...more.value, ...page.items]
  next.value = page.next
}
</script>

<template>
  <p v-if="error" class="bad" role="alert">{{ error.message }}</p>
  <template v-if="data">
    <form v-if="data.count > 20 || search" class="row search" @submit.prevent="load">
      <InputText
        v-model="search"
        size="small"
        :placeholder="`Search ${data.count} holders`"
        aria-label="Search holders"
        @input="load"
      />
    </form>
    <table class="plain">
      <thead>
        <tr>
          <th>Holder</th>
          <th>Reason</th>
          <th>Until</th>
          <th><span class="unseen">Revoke</span></th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="one in [...data.items, ...more]" :key="one.identity">
          <td>
            <RouterLink :to="{ name: 'identity', params: { id: one.identity } }">{{ one.label }}</RouterLink>
          </td>
          <td>{{ one.by }}</td>
          <td>{{ minute(one.until) }}</td>
          <td>
            <Button
              v-if="one.origin === 'grant'"
              label="Revoke"
              size="small"
              severity="secondary"
              @click="emit('revoke', one.identity)"
            />
          </td>
        </tr>
      </tbody>
    </table>
    <p v-if="!data.items.length" class="faint">No holder has this name.</p>
    <Button v-if="next" label="Show more" text @click="showMore" />
  </template>
</template>

<style scoped>
.search {
  margin: 0.6rem 0 0;
}
.unseen {
  position: absolute;
  clip-path: inset(50%);
}
.bad {
  color: var(--bad);
}
</style>
