<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import InputText from 'primevue/inputtext'
import { ref } from 'vue'
import { api, type ChangeSet, type Schemas, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import Mark from '@/components/Mark.vue'
import { useBegin } from '@/components/begin'
import { useFetched } from '@/components/fetched'
import { text, time } from '@/words'

const { preview } = useBegin()
const day = ref('')
const system = ref('')
const kind = ref<Schemas['ObjectType'] | ''>('')
const { data: systems } = useFetched(() => take(api.GET('/api/v1/systems')))
const part = () =>
  preview({
    as_of: day.value || null,
    systems: system.value ? [system.value] : [],
    types: kind.value ? [kind.value] : [],
    without_reading: true,
  })
/** Runs older than the first page. */
const older = ref<ChangeSet[]>([])
const next = ref<string | null>(null)
const onlyFailed = ref(false)
async function showOlder() {
  const page = await take(
    api.GET('/api/v1/change-sets', {
      params: {
        query: { limit: 100, after: next.value ?? '', state: onlyFailed.value ? 'failed' : undefined },
      },
    }),
  )
  older.value = [...older.value, ...page.items]
  next.value = page.next ?? null
}
const { data, error, loading, load } = useFetched(
  () =>
    take(
      api.GET('/api/v1/change-sets', {
        params: { query: { limit: 50, state: onlyFailed.value ? 'failed' : undefined } },
      }),
    ).then((page) => {
      older.value = []
      next.value = page.next ?? null
      return page.items
    }),
  (event) => event.event === 'change_set',
)
</script>

<template>
  <div class="row spread">
    <h1>Changes</h1>
    <Button label="Preview a run" icon="pi pi-eye" @click="preview()" />
  </div>
  <p class="faint">
    A preview shows what a run would do, and why; it writes nothing. A run does exactly that, or reports why
    not.
  </p>
  <form class="sheet row part" aria-label="Preview a part, or another day" @submit.prevent="part">
    <label>On <InputText v-model="day" type="date" size="small" /></label>
    <label
      >in
      <select v-model="system">
        <option value="">every system</option>
        <option v-for="one in systems ?? []" :key="one.name" :value="one.name">{{ one.name }}</option>
      </select></label
    >
    <label
      >of
      <select v-model="kind">
        <option value="">every type</option>
        <option value="person">persons</option>
        <option value="group">groups</option>
        <option value="service">services</option>
      </select></label
    >
    <Button
      type="submit"
      label="Preview this part"
      size="small"
      severity="secondary"
      :disabled="!day && !system && !kind"
    />
    <span class="faint">{{ day ? 'As decided on that day, if nothing else changes.' : '' }}</span>
  </form>
  <p>
    <label class="row only"
      ><input v-model="onlyFailed" type="checkbox" @change="load()" /> Only runs with failed changes</label
    >
  </p>
  <Fetched :loading="loading" :error="error" @retry="load">
    <DataTable :value="[...(data ?? []), ...older]" size="small" data-key="id">
      <template #empty>{{
        onlyFailed ? 'No run failed.' : 'No previews or runs yet. Start with a preview.'
      }}</template>
      <Column header="Change set">
        <template #body="{ data: set }">
          <RouterLink :to="{ name: 'change-set', params: { id: set.id } }"
            >{{ set.kind }} {{ set.id }}</RouterLink
          >
        </template>
      </Column>
      <Column header="Result">
        <template #body="{ data: set }"
          ><Mark :word="set.result === 'in_progress' ? set.state : set.result"
        /></template>
      </Column>
      <Column header="Started">
        <template #body="{ data: set }">{{ time(set.started_at) }}</template>
      </Column>
      <Column header="Started by" field="principal" />
      <Column header="Changes">
        <template #body="{ data: set }">{{
          set.states.map((s: Schemas['StateCount']) => `${s.count} ${text(s.state)}`).join(', ') || 'none'
        }}</template>
      </Column>
      <Column header="Note" field="note" />
    </DataTable>
    <Button
      v-if="next"
      label="Show older runs"
      size="small"
      severity="secondary"
      class="older"
      @click="showOlder"
    />
  </Fetched>
</template>

<style scoped>
.older {
  margin-top: 0.8rem;
}
.only {
  gap: 0.4rem;
}
.part {
  margin-bottom: 1rem;
  gap: 0.9rem;
  align-items: center;
}
.part label {
  display: flex;
  gap: 0.4rem;
  align-items: center;
}
</style>
