<script setup lang="ts">
import Button from 'primevue/button'
import Column from 'primevue/column'
import DataTable from 'primevue/datatable'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import Mark from '@/components/Mark.vue'
import { useBegin } from '@/components/begin'
import { useFetched } from '@/components/fetched'
import { time } from '@/words'

const { preview } = useBegin()
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/change-sets', { params: { query: { limit: 100 } } })),
  (event) => event.event === 'change_set',
)
</script>

<template>
  <div class="row spread">
    <h1>Changes</h1>
    <Button label="Preview a run" icon="pi pi-eye" @click="preview" />
  </div>
  <p class="faint">
    A preview shows what a run would do, and why; it writes nothing. A run does exactly that, or says why not.
  </p>
  <Fetched :loading="loading" :error="error" @retry="load">
    <DataTable :value="data ?? []" size="small" data-key="id">
      <template #empty>No preview and no run yet. Begin with a preview.</template>
      <Column header="What">
        <template #body="{ data: set }">
          <RouterLink :to="{ name: 'change-set', params: { id: set.id } }"
            >{{ set.kind }} {{ set.id }}</RouterLink
          >
        </template>
      </Column>
      <Column header="State">
        <template #body="{ data: set }"><Mark :word="set.state" /></template>
      </Column>
      <Column header="Started">
        <template #body="{ data: set }">{{ time(set.started) }}</template>
      </Column>
      <Column header="By" field="principal" />
      <Column header="Changes">
        <template #body="{ data: set }">{{
          set.states.map((s: { count: number; word: string }) => `${s.count} ${s.word}`).join(', ') || 'none'
        }}</template>
      </Column>
      <Column header="Note" field="note" />
    </DataTable>
  </Fetched>
</template>
