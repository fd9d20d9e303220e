<script setup lang="ts">
import Button from 'primevue/button'
import { useToast } from 'primevue/usetoast'
import { ref } from 'vue'
import { api, take, type Permission, type System } from '@/api/client'
import Fetched from './Fetched.vue'
import { useFetched } from './fetched'
import { time } from '@/words'

/** What a system says of itself, which permissions its service account needs, what was set aside, who may call as it. */
const props = defineProps<{ system: System }>()
const toast = useToast()
const path = () => ({ path: { name: props.system.name } })
const permissions = useFetched(
  () => take(api.GET('/api/v1/systems/{name}/permissions', { params: path() })),
  (event) => event.event === 'rules',
)
const aside = useFetched(
  () =>
    props.system.kind === 'feed'
      ? take(api.GET('/api/v1/systems/{name}/quarantine', { params: path() }))
      : Promise.resolve([]),
  (event) => event.event === 'reading' && event.state !== 'running',
)
const tokens = useFetched(
  () =>
    props.system.kind === 'push'
      ? take(api.GET('/api/v1/systems/{name}/tokens', { params: path() }))
      : Promise.resolve([]),
  (event) => event.event === 'system',
)
const operations: Record<Permission['operation'], string> = {
  read: 'Read',
  write: 'Write',
  create: 'Create',
  rename: 'Rename and move',
  delete: 'Delete',
  set_password: 'Set password',
}
const fresh = ref('')
async function act(work: () => Promise<unknown>) {
  try {
    await work()
    await tokens.load()
  } catch (problem) {
    toast.add({ severity: 'error', summary: (problem as Error).message, life: 8000 })
  }
}
const give = () =>
  act(async () => {
    const made = await take(
      api.POST('/api/v1/systems/{name}/tokens', { params: path(), body: { label: 'from the console' } }),
    )
    fresh.value = made.token
  })
const end = (id: string) =>
  act(() =>
    take(
      api.DELETE('/api/v1/systems/{name}/tokens/{id}', { params: { path: { name: props.system.name, id } } }),
    ),
  )
const download = `/api/v1/systems/${encodeURIComponent(props.system.name)}/quarantine.csv`
</script>

<template>
  <div class="parts">
    <section v-if="system.profile.length" class="sheet">
      <h2>What it says of itself</h2>
      <dl>
        <template v-for="fact in system.profile" :key="fact.label">
          <dt>{{ fact.label }}</dt>
          <dd class="wrap">{{ fact.text }}</dd>
        </template>
        <template v-if="system.host">
          <dt>Host in use</dt>
          <dd class="mono">{{ system.host }}</dd>
        </template>
      </dl>
    </section>
    <section class="sheet">
      <h2>Required permissions of the service account</h2>
      <Fetched
        :loading="permissions.loading.value"
        :error="permissions.error.value"
        :empty="permissions.data.value?.length === 0"
        @retry="permissions.load"
      >
        <template #empty>The published rules do nothing with it: no permission is needed yet.</template>
        <ul>
          <li v-for="(permission, n) in permissions.data.value ?? []" :key="n">
            <strong>{{ operations[permission.operation] }}</strong>
            {{ ' ' }}<span class="mono wrap">{{ permission.entries.join(' and ') }}</span
            ><span v-if="permission.is_subtree"> and below</span
            ><span v-if="permission.attributes.length">: {{ permission.attributes.join(', ') }}</span>
            <div class="faint">{{ permission.reason }}</div>
          </li>
        </ul>
      </Fetched>
    </section>
    <section v-if="system.kind === 'feed'" class="sheet">
      <div class="row spread">
        <h2>
          Rows set aside <span class="faint">{{ aside.data.value?.length ?? 0 }}</span>
        </h2>
        <a v-if="aside.data.value?.length" :href="download" download>Download as CSV</a>
      </div>
      <p v-if="!aside.data.value?.length" class="faint">The last reading could use every row.</p>
      <ul>
        <li v-for="row in (aside.data.value ?? []).slice(0, 20)" :key="row.line">
          <strong>Line {{ row.line }}</strong> {{ row.reason }}
          <div class="faint mono wrap">{{ row.raw }}</div>
        </li>
      </ul>
    </section>
    <section v-if="system.kind === 'push'" class="sheet">
      <div class="row spread">
        <h2>Tokens</h2>
        <Button label="Give a new token" size="small" severity="secondary" @click="give" />
      </div>
      <p v-if="fresh">
        Shown this once: <code class="wrap">{{ fresh }}</code>
      </p>
      <p class="faint">
        Earlier tokens stay good for a day after a new one was given, so that there is no gap.
      </p>
      <ul>
        <li v-for="token in tokens.data.value ?? []" :key="token.id">
          {{ token.label || 'without a label' }}, made {{ time(token.made) }}
          <span v-if="!token.good" class="faint">no longer good</span>
          <span v-else-if="token.expires" class="faint">until {{ time(token.expires) }}</span>
          <Button v-if="token.good" label="Take back" size="small" text @click="end(token.id)" />
        </li>
      </ul>
    </section>
  </div>
</template>

<style scoped>
.parts {
  display: grid;
  grid-template-columns: 1fr 1fr;
  gap: 1rem;
  margin-top: 1rem;
}
.sheet {
  margin: 0;
}
dl {
  display: grid;
  grid-template-columns: 9rem 1fr;
  gap: 0.25rem 0.8rem;
  margin: 0;
}
dt {
  color: var(--faint);
}
dd {
  margin: 0;
}
ul {
  list-style: none;
  padding: 0;
  margin: 0;
  display: grid;
  gap: 0.5rem;
}
</style>
