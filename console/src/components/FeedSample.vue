<script setup lang="ts">
import { ref } from 'vue'
import type { Schemas } from '@/api/client'

/** Inspects a sample file before the feed is added: its columns, and which can be the key. Stores nothing. */
const emit = defineEmits<{ key: [name: string] }>()
const inspection = ref<Schemas['FeedInspectionView'] | null>(null)
const fault = ref('')

async function inspect(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  inspection.value = null
  fault.value = ''
  const answer = await fetch('/api/v1/feeds/inspect', {
    method: 'POST',
    credentials: 'same-origin',
    headers: { 'content-type': 'application/octet-stream' },
    body: file,
  })
  const body = (await answer.json()) as Schemas['FeedInspectionView'] & Partial<Schemas['Problem']>
  if (!answer.ok) {
    fault.value = [body.detail, body.remedy].filter(Boolean).join(' — to do: ')
    return
  }
  inspection.value = body
  const key = body.columns.find((column) => column.key)
  if (key) emit('key', key.name)
}
</script>

<template>
  <p class="sample">
    <label for="inspect">Inspect a sample file</label>
    <input id="inspect" type="file" @change="inspect" />
  </p>
  <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
  <div v-if="inspection" class="inspection">
    <p>
      {{ inspection.format === 'csv' ? `CSV, separated by ${inspection.delimiter}` : 'JSON Lines' }},
      {{ inspection.encoding }}{{ inspection.has_bom ? ' with a byte order mark' : '' }}:
      {{ inspection.rows }} rows, {{ inspection.bad }} invalid
    </p>
    <table>
      <thead>
        <tr>
          <th>Column</th>
          <th>Type</th>
          <th>Empty</th>
          <th>Repeated</th>
          <th>First values</th>
          <th>Note</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="(column, at) in inspection.columns" :key="column.name">
          <td class="mono">{{ column.name }}</td>
          <td>{{ column.kind }}</td>
          <td>{{ column.empty }}</td>
          <td>{{ column.repeated }}</td>
          <td>
            <bdi v-for="(row, n) in inspection.first.slice(0, 3)" :key="n"
              >{{ n ? ' · ' : '' }}{{ row[at] || '—' }}</bdi
            >
          </td>
          <td>
            {{
              column.key
                ? 'can be the key'
                : column.duplicates.length
                  ? `duplicates: ${column.duplicates.join(', ')}`
                  : ''
            }}
          </td>
        </tr>
      </tbody>
    </table>
    <p v-for="row in inspection.bad_rows.slice(0, 5)" :key="row.line" class="bad">
      Line {{ row.line }}: {{ row.reason }}
    </p>
  </div>
</template>

<style scoped>
.sample {
  display: grid;
  grid-template-columns: 11rem 1fr;
  gap: 0.45rem 1rem;
  align-items: center;
}
input[type='file'] {
  font: inherit;
  padding: 0.35rem;
  background: var(--sheet);
  color: inherit;
  border: 1px solid var(--line);
}
.inspection table {
  width: 100%;
  border-collapse: collapse;
  font-size: 0.92rem;
}
.inspection th,
.inspection td {
  text-align: left;
  padding: 0.15rem 0.5rem;
  border-bottom: 1px solid var(--line);
}
.bad {
  color: var(--bad);
}
</style>
