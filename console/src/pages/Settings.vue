<script setup lang="ts">
/** Who may act: operators, the groups that approvals name, and who they are. */
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
const ended = ref(false)
const shown = computed(() => (data.value ?? []).filter((one) => ended.value || !one.ended))
const editing = ref<'new' | 'old' | null>(null)
const name = ref('')
const groups = ref('')
const person = ref('')
const trouble = ref('')
const token = ref('')
const leaving = ref<Schemas['Operator'] | null>(null)

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
async function end() {
  const path = { name: leaving.value?.name ?? '' }
  leaving.value = null
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
    Operators sign in with a token. Approvals name them, their groups, or the person that they are: a manager
    answers as themselves.
  </p>
  <p v-if="trouble && !editing" class="sheet trouble" role="alert">{{ trouble }}</p>
  <Fetched :loading="loading" :error="error" @retry="load">
    <DataTable :value="shown" size="small" data-key="name">
      <Column header="Operator" field="name" />
      <Column header="Groups">
        <template #body="{ data: one }">{{ one.groups.join(', ') || '—' }}</template>
      </Column>
      <Column header="Is">
        <template #body="{ data: one }">
          <RouterLink v-if="one.identity" :to="{ name: 'identity', params: { id: one.identity } }"
            ><bdi>{{ one.person ?? one.identity }}</bdi></RouterLink
          >
          <template v-else>—</template>
        </template>
      </Column>
      <Column header="Since">
        <template #body="{ data: one }">{{ time(one.made) }}</template>
      </Column>
      <Column header="To do">
        <template #body="{ data: one }">
          <span v-if="one.ended" class="faint">ended {{ time(one.ended) }}</span>
          <div v-else class="row">
            <Button label="Change…" size="small" severity="secondary" @click="edit(one)" />
            <Button label="End…" size="small" severity="secondary" @click="leaving = one" />
          </div>
        </template>
      </Column>
    </DataTable>
    <label class="faint"
      ><input v-model="ended" type="checkbox" /> those too whose rights were taken back</label
    >
  </Fetched>
  <Dialog
    :visible="editing !== null"
    modal
    :header="editing === 'new' ? 'Add an operator' : `Change ${name}`"
    :style="{ width: '32rem' }"
    @update:visible="editing = null"
  >
    <template v-if="token">
      <p>The token of {{ name }} is shown this once. Hand it over by a safe way.</p>
      <p>
        <code class="token">{{ token }}</code>
      </p>
      <Button label="I have it" @click="editing = null" />
    </template>
    <form v-else @submit.prevent="save">
      <p v-if="trouble" class="trouble" role="alert">{{ trouble }}</p>
      <label>Name <InputText v-model="name" :disabled="editing === 'old'" required fluid /></label>
      <label>Groups, with commas <InputText v-model="groups" fluid placeholder="harbour masters" /></label>
      <label
        >Is the person (name, number, address or id; may be left out) <InputText v-model="person" fluid
      /></label>
      <div class="row">
        <Button
          type="submit"
          :label="editing === 'new' ? 'Add and show the token' : 'Save'"
          :disabled="!name.trim()"
        />
        <Button label="Not now" severity="secondary" @click="editing = null" />
      </div>
    </form>
  </Dialog>
  <Dialog
    :visible="leaving !== null"
    modal
    :header="`End ${leaving?.name}?`"
    :style="{ width: '30rem' }"
    @update:visible="leaving = null"
  >
    <p>
      Its tokens and sessions end at once. What it did stays in the journal, and what it approved stays
      approved.
    </p>
    <div class="row">
      <Button label="End it" severity="danger" @click="end" />
      <Button label="Not now" severity="secondary" @click="leaving = null" />
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
