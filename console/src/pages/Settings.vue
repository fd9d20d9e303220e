<script setup lang="ts">
/** Operators, their groups and the persons they are. */
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import Dialog from 'primevue/dialog'
import InputText from 'primevue/inputtext'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import type { Schemas } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import { useFetched } from '@/components/fetched'
import { time } from '@/words'

const { data, error, loading, load } = useFetched(() => take(api.GET('/api/v1/operators')))
const showEnded = ref(false)
const shown = computed(() => (data.value ?? []).filter((one) => showEnded.value || !one.ended_at))
const editing = ref<'new' | 'old' | null>(null)
const name = ref('')
const groups = ref('')
const person = ref('')
const trouble = ref('')
const token = ref('')
const deactivating = ref<Schemas['Operator'] | null>(null)

function edit(one: Schemas['Operator'] | null) {
  editing.value = one ? 'old' : 'new'
  name.value = one?.name ?? ''
  groups.value = one?.groups.join(', ') ?? ''
  person.value = one?.identity ?? ''
  trouble.value = ''
  token.value = ''
}
const body = () => ({
  name: name.value.trim(),
  groups: groups.value
    .split(',')
    .map((group) => group.trim())
    .filter(Boolean),
  person: person.value.trim() || null,
})
async function save() {
  trouble.value = ''
  try {
    if (editing.value === 'new') {
      token.value = (await take(api.POST('/api/v1/operators', { body: body() }))).token
    } else {
      const path = { name: name.value }
      await take(api.PUT('/api/v1/operators/{name}', { params: { path }, body: body() }))
      editing.value = null
    }
    await load()
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
}
async function deactivate() {
  const path = { name: deactivating.value?.name ?? '' }
  deactivating.value = null
  trouble.value = ''
  try {
    await take(api.DELETE('/api/v1/operators/{name}', { params: { path } }))
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
  await load()
}
</script>

<template>
  <div class="row spread">
    <h1>Settings</h1>
    <Button label="Add an operator…" icon="pi pi-plus" @click="edit(null)" />
  </div>
  <p class="faint">
    Operators sign in with a token. Approvals name operators, their groups, or the person that an operator is,
    such as a manager.
  </p>
  <p v-if="trouble && !editing" class="sheet trouble" role="alert">{{ trouble }}</p>
  <Fetched :loading="loading" :error="error" @retry="load">
    <DataTable :value="shown" size="small" data-key="name">
      <Column header="Operator" field="name" />
      <Column header="Groups">
        <template #body="{ data: one }">{{ one.groups.join(', ') || '—' }}</template>
      </Column>
      <Column header="Person">
        <template #body="{ data: one }">
          <RouterLink v-if="one.identity" :to="{ name: 'identity', params: { id: one.identity } }"
            ><bdi>{{ one.person ?? one.identity }}</bdi></RouterLink
          >
          <template v-else>—</template>
        </template>
      </Column>
      <Column header="Since">
        <template #body="{ data: one }">{{ time(one.created_at) }}</template>
      </Column>
      <Column header="Actions">
        <template #body="{ data: one }">
          <span v-if="one.ended_at" class="faint">deactivated {{ time(one.ended_at) }}</span>
          <div v-else class="row">
            <Button label="Edit…" size="small" severity="secondary" @click="edit(one)" />
            <Button label="Deactivate…" size="small" severity="secondary" @click="deactivating = one" />
          </div>
        </template>
      </Column>
    </DataTable>
    <label class="faint"><input v-model="showEnded" type="checkbox" /> Show deactivated operators</label>
  </Fetched>
  <Dialog
    :visible="editing !== null"
    modal
    :header="editing === 'new' ? 'Add an operator' : `Edit ${name}`"
    :style="{ width: '32rem' }"
    @update:visible="editing = null"
  >
    <template v-if="token">
      <p>Copy the token of {{ name }} now: it is not shown again. Send it through a secure channel.</p>
      <p>
        <code class="token">{{ token }}</code>
      </p>
      <Button label="I saved it" @click="editing = null" />
    </template>
    <form v-else @submit.prevent="save">
      <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
      <label>Name <InputText v-model="name" :disabled="editing === 'old'" required fluid /></label>
      <label
        >Groups, separated by commas <InputText v-model="groups" fluid placeholder="harbour masters"
      /></label>
      <label>Person (name, number, address or id; optional) <InputText v-model="person" fluid /></label>
      <div class="row">
        <Button
          type="submit"
          :label="editing === 'new' ? 'Add and show the token' : 'Save'"
          :disabled="!name.trim()"
        />
        <Button label="Cancel" severity="secondary" @click="editing = null" />
      </div>
    </form>
  </Dialog>
  <Dialog
    :visible="deactivating !== null"
    modal
    :header="`Deactivate ${deactivating?.name}?`"
    :style="{ width: '30rem' }"
    @update:visible="deactivating = null"
  >
    <p>Its tokens and sessions end at once. Its journal entries and approvals stay.</p>
    <div class="row">
      <Button label="Deactivate" severity="danger" @click="deactivate" />
      <Button label="Cancel" severity="secondary" @click="deactivating = null" />
    </div>
  </Dialog>
</template>

<style scoped>
form label {
  display: block;
  margin-bottom: 0.9rem;
}
.token {
  overflow-wrap: anywhere;
}
.trouble {
  border-left: 4px solid var(--bad);
  padding-left: 0.8rem;
}
</style>
