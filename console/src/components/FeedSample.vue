<script setup lang="ts">
import { ref } from 'vue'
import type { Schemas } from '@/api/client'

/** A sample of a feed's file, looked at before the feed is added: its columns, and which may be the key. Nothing is kept. */
const emit = defineEmits<{ key: [name: string] }>()
const look = ref<Schemas['FeedLook'] | null>(null)
const fault = ref('')

async function lookAt(event: Event) {
  const file = (event.target as HTMLInputElement).files?.[0]
  if (!file) return
  look.value = null
  fault.value = ''
  const answer = await fetch('/api/v1/feeds/look', {
    method: 'POST',
    credentials: 'same-origin',
    headers: { 'content-type': 'application/octet-stream' },
    body: file,
  })
  const body = (await answer.json()) as Schemas['FeedLook'] & Partial<Schemas['Problem']>
  if (!answer.ok) {
    fault.value = [body.detail, body.remedy].filter(Boolean).join(' — to do: ')
    return
  }
  look.value = body
  const key = body.columns.find((column) => column.key)
  if (key) emit('key', key.name)
}
</script>

<template>
  <p class="sample">
    <label for="look">Look at a sample first</label>
    <input id="look" type="file" @change="lookAt" />
  </p>
  <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
  <div v-if="look" class="look">
    <p>
      {{ look.format === 'csv' ? `CSV, separated by ${look.delimiter}` : 'JSON Lines' }}, {{ look.encoding
      }}{{ look.marked ? ' with a byte order mark' : '' }}: {{ look.rows }} rows, {{ look.bad }} unreadable
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
        <tr v-for="(column, at) in look.columns" :key="column.name">
          <td class="mono">{{ column.name }}</td>
          <td>{{ column.kind }}</td>
          <td>{{ column.empty }}</td>
          <td>{{ column.repeated }}</td>
          <td>
            <bdi v-for="(row, n) in look.first.slice(0, 3)" :key="n"
              >{{ n ? ' · ' : '' }}{{ row[at] || '—' }}</bdi
            >
          </td>
          <td>
            {{
              column.key
                ? 'can be the key'
                : column.duplicates.length
                  ? `twice: ${column.duplicates.join(', ')}`
                  : ''
            }}
          </td>
        </tr>
      </tbody>
    </table>
    <p v-for="row in look.bad_rows.slice(0, 5)" :key="row.line" class="bad">
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
.look table {
  width: 100%;
  border-collapse: collapse;
  font-size: 0.92rem;
}
.look th,
.look td {
  text-align: left;
  padding: 0.15rem 0.5rem;
  border-bottom: 1px solid var(--line);
}
.bad {
  color: var(--bad);
}
</style>
