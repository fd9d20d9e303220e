<script setup lang="ts">
import type { RuleLine } from '@/api/client'

defineProps<{ title: string; lines: RuleLine[]; head: [string, string] }>()
</script>

<template>
  <template v-if="lines.length">
    <h2 class="title">
      {{ title }} <span class="faint">({{ lines.length }})</span>
    </h2>
    <table class="plain">
      <thead>
        <tr>
          <th class="name">{{ head[0] || 'Kind' }}</th>
          <th>{{ head[1] }}</th>
          <th class="note">Note</th>
          <th class="location">Location</th>
        </tr>
      </thead>
      <tbody>
        <tr v-for="line in lines" :key="line.location + line.name">
          <td>{{ line.name }}</td>
          <td>
            <code>{{ line.text }}</code>
          </td>
          <td class="faint">{{ line.note }}</td>
          <td class="faint mono">{{ line.location }}</td>
        </tr>
      </tbody>
    </table>
  </template>
</template>

<style scoped>
.title {
  margin: 1rem 0 0.35rem;
  font-size: 0.95rem;
}
.name {
  width: 15rem;
}
.note {
  width: 16rem;
}
.location {
  width: 10rem;
}
</style>
