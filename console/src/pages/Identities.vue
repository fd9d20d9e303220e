<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import Select from 'primevue/select'
import { ref, watch } from 'vue'
import { useRoute, useRouter } from 'vue-router'
import { api, take, type Identity, type Schemas } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import Mark from '@/components/Mark.vue'
import { useFetched } from '@/components/fetched'
import { values } from '@/words'

const route = useRoute()
const router = useRouter()
const search = ref(String(route.query.search ?? ''))
const stage = ref<string | null>(null)
const stages = ['active', 'left']
const more = ref<Identity[]>([])
const next = ref<string | null | undefined>(null)
const ask = (after?: string) =>
  take(
    api.GET('/api/v1/identities', {
      params: { query: { search: search.value, filter: stage.value ?? '', after, limit: 100 } },
    }),
  )
const { data, error, loading, load, soon } = useFetched(
  async () => {
    const page = await ask()
    more.value = []
    next.value = page.next
    return page
  },
  (event) => event.event === 'change_set' && event.state === 'done',
)
watch([search, stage], () => soon())

async function further() {
  if (!next.value) return
  const page = await ask(next.value)
  more.value = [...more.value, ...page.items]
  next.value = page.next
}
const value = (identity: Identity, name: string) =>
  values(identity.attributes.find((a) => a.name === name)?.values)

const explanations = ref<Schemas['Explanation'][] | null>(null)
const notFound = ref('')
async function explain() {
  notFound.value = ''
  explanations.value = null
  try {
    explanations.value = await take(api.GET('/api/v1/why', { params: { query: { person: search.value } } }))
    const [only] = explanations.value
    if (explanations.value.length === 1 && only?.identity)
      await router.push({ name: 'identity', params: { id: only.identity } })
  } catch (problem) {
    notFound.value = (problem as Error).message
  }
}
</script>

<template>
  <div class="row spread">
    <h1>Identities</h1>
    <div class="row">
      <InputText
        v-model="search"
        class="search"
        placeholder="Name, number, address …"
        aria-label="Search identities"
        @keyup.enter="explain"
      />
      <Select v-model="stage" :options="stages" placeholder="Any stage" show-clear aria-label="Stage" />
      <RouterLink :to="{ name: 'leavers' }">Leavers</RouterLink>
      <RouterLink :to="{ name: 'roles' }">Roles</RouterLink>
      <RouterLink :to="{ name: 'licenses' }">Licenses</RouterLink>
      <RouterLink :to="{ name: 'notifications' }">Notifications</RouterLink>
      <Button label="Explain" severity="secondary" :disabled="!search.trim()" @click="explain" />
    </div>
  </div>
  <p class="faint">
    One record per person, which links all their accounts. Explain also finds people without one, and says
    why.
  </p>
  <section v-if="notFound" class="sheet why" role="status">{{ notFound }}</section>
  <section
    v-if="explanations && (explanations.length > 1 || !explanations[0]?.identity)"
    class="sheet why"
    aria-label="Explanation"
  >
    <div v-for="(one, n) in explanations.slice(0, 10)" :key="n">
      <strong
        ><bdi>{{ one.label }}</bdi></strong
      >
      <RouterLink v-if="one.identity" :to="{ name: 'identity', params: { id: one.identity } }">
        open</RouterLink
      >
      <div v-for="account in one.accounts" :key="account.system" class="row">
        <Mark :word="account.verdict" /> <span class="faint">{{ account.system }}</span>
        {{ account.reason.text }}
        <span class="faint mono">{{ account.rule }}</span>
      </div>
    </div>
    <p v-if="explanations.length > 10" class="faint">
      {{ explanations.length }}{{ explanations.length >= 50 ? ' or more' : '' }} match. Enter more of the
      name.
    </p>
  </section>
  <Fetched :loading="loading" :error="error" @retry="load">
    <DataTable :value="[...(data?.items ?? []), ...more]" size="small" data-key="id" class="list">
      <template #empty>
        {{
          search || stage
            ? 'No matching identities. Explain also searches accounts without identity.'
            : 'The first run creates identities. Start with a preview.'
        }}
      </template>
      <Column header="Name">
        <template #body="{ data: row }"
          ><RouterLink :to="{ name: 'identity', params: { id: row.id } }">{{
            row.label
          }}</RouterLink></template
        >
      </Column>
      <Column header="Number">
        <template #body="{ data: row }">{{ value(row, 'employeeNumber') }}</template>
      </Column>
      <Column header="Address">
        <template #body="{ data: row }">{{ value(row, 'mail') }}</template>
      </Column>
      <Column header="Department">
        <template #body="{ data: row }">{{ value(row, 'department') }}</template>
      </Column>
      <Column header="Stage">
        <template #body="{ data: row }"><Mark :word="row.stage" /></template>
      </Column>
      <Column header="Accounts in">
        <template #body="{ data: row }">{{ row.systems.join(', ') || '—' }}</template>
      </Column>
    </DataTable>
    <Button v-if="next" label="Show more" text @click="further" />
  </Fetched>
</template>

<style scoped>
.search {
  width: 17rem;
}
.why {
  margin-bottom: 1rem;
  border-left: 4px solid var(--lamp);
}
</style>
