<script setup lang="ts">
import Button from 'primevue/button'
import { useToast } from 'primevue/usetoast'
import { ref } from 'vue'
import { api, take, type Permission, type System } from '@/api/client'
import Fetched from './Fetched.vue'
import { useFetched } from './fetched'
import { time } from '@/words'

/** The capabilities of a system, the permissions it requires, its quarantine and its tokens. */
const props = defineProps<{ system: System }>()
const toast = useToast()
const path = () => ({ path: { name: props.system.name } })
const permissions = useFetched(
  () => take(api.GET('/api/v1/systems/{name}/permissions', { params: path() })),
  (event) => event.event === 'rules',
)
const quarantine = useFetched(
  () =>
    props.system.kind === 'feed'
      ? take(api.GET('/api/v1/systems/{name}/quarantine', { params: path() }))
      : Promise.resolve([]),
  (event) => event.event === 'full_read' && event.state !== 'running',
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
const create = () =>
  act(async () => {
    const created = await take(
      api.POST('/api/v1/systems/{name}/tokens', { params: path(), body: { label: 'from the console' } }),
    )
    fresh.value = created.token
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
      <h2>Capabilities</h2>
      <dl>
        <template v-for="fact in system.profile" :key="fact.label">
          <dt>{{ fact.label }}</dt>
          <dd class="wrap">{{ fact.text }}</dd>
        </template>
        <template v-if="system.host">
          <dt>Connected host</dt>
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
        <template #empty>The published rules do not use this system: no permission is required yet.</template>
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
          Quarantine <span class="faint">{{ quarantine.data.value?.length ?? 0 }}</span>
        </h2>
        <a v-if="quarantine.data.value?.length" :href="download" download>Download as CSV</a>
      </div>
      <p v-if="!quarantine.data.value?.length" class="faint">Every row of the last read was valid.</p>
      <ul>
        <li v-for="row in (quarantine.data.value ?? []).slice(0, 20)" :key="row.line">
          <strong>Line {{ row.line }}</strong> {{ row.reason }}
          <div class="faint mono wrap">{{ row.raw }}</div>
        </li>
      </ul>
    </section>
    <section v-if="system.kind === 'push'" class="sheet">
      <div class="row spread">
        <h2>Tokens</h2>
        <Button label="Create token" size="small" severity="secondary" @click="create" />
      </div>
      <p v-if="fresh">
        Copy it now, it is not shown again: <code class="wrap">{{ fresh }}</code>
      </p>
      <p class="faint">
        After a new token is created, earlier ones stay valid for a day, so that you can switch.
      </p>
      <ul>
        <li v-for="token in tokens.data.value ?? []" :key="token.id">
          {{ token.label || 'no label' }}, created {{ time(token.created_at) }}
          <span v-if="!token.is_valid" class="faint">expired or revoked</span>
          <span v-else-if="token.expires_at" class="faint">until {{ time(token.expires_at) }}</span>
          <Button v-if="token.is_valid" label="Revoke" size="small" text @click="end(token.id)" />
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
