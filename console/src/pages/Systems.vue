<script setup lang="ts">
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import SystemSheet from '@/components/SystemSheet.vue'
import { useFetched } from '@/components/fetched'

const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/systems')),
  (event) => event.event === 'system' || (event.event === 'reading' && event.state !== 'running'),
)
</script>

<template>
  <h1>Systems</h1>
  <p class="faint">Every system starts read-only. Nothing is written to one until it is made writable.</p>
  <Fetched :loading="loading" :error="error" :empty="data?.length === 0" @retry="load">
    <template #empty>
      No system is connected yet. The client tests and adds one:
      <code>eager-tide systems add NAME --kind ldap --address …</code>
    </template>
    <div class="systems">
      <SystemSheet v-for="system in data ?? []" :key="system.name" :system="system" />
    </div>
  </Fetched>
</template>

<style scoped>
.systems {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(26rem, 1fr));
  gap: 1rem;
}
</style>
