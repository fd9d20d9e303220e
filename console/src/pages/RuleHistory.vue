<script setup lang="ts">
import Button from 'primevue/button'
import { ref, watch } from 'vue'
import { useRouter } from 'vue-router'
import { api, take, type Schemas } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import RuleDifference from '@/components/RuleDifference.vue'
import RuleImpact from '@/components/RuleImpact.vue'
import { useFetched } from '@/components/fetched'
import { time } from '@/words'

const router = useRouter()
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/rules/versions')),
  (event) => event.event === 'rules',
)
const from = ref(0)
const to = ref(0)
watch(data, (versions) => {
  to.value = versions?.[0]?.version ?? 0
  from.value = versions?.[1]?.version ?? 0
})
const found = ref<Schemas['Difference'] | null>(null)
const trouble = ref('')
const working = ref(false)

async function compare() {
  working.value = true
  trouble.value = ''
  try {
    const query = { from: from.value, to: to.value, impact: true }
    found.value = await take(api.GET('/api/v1/rules/difference', { params: { query } }))
  } catch (problem) {
    trouble.value = (problem as Error).message
  } finally {
    working.value = false
  }
}

async function restore(version: number) {
  try {
    const draft = await take(api.POST('/api/v1/rules/drafts', { body: { name: '', version } }))
    await router.push({ name: 'draft', params: { id: draft.id } })
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
}
</script>

<template>
  <h1>Rule versions</h1>
  <Fetched :loading="loading" :error="error" :empty="!data?.length" @retry="load">
    <template #empty>No rules are published yet.</template>
    <div v-if="data" class="sheet">
      <table class="plain">
        <thead>
          <tr>
            <th>Version</th>
            <th>Published</th>
            <th>By</th>
            <th>Note</th>
            <th>Compare from</th>
            <th>Compare to</th>
            <th>Roll back</th>
          </tr>
        </thead>
        <tbody>
          <tr v-for="(one, at) in data" :key="one.version">
            <td>
              <strong>{{ one.version }}</strong> <span v-if="at === 0" class="faint">current</span>
            </td>
            <td>{{ time(one.created_at) }}</td>
            <td>{{ one.principal }}</td>
            <td>{{ one.note }}</td>
            <td>
              <input
                v-model="from"
                type="radio"
                name="from"
                :value="one.version"
                :aria-label="`compare from version ${one.version}`"
              />
            </td>
            <td>
              <input
                v-model="to"
                type="radio"
                name="to"
                :value="one.version"
                :aria-label="`compare to version ${one.version}`"
              />
            </td>
            <td>
              <Button
                v-if="at > 0"
                :label="`Draft of version ${one.version}`"
                size="small"
                severity="secondary"
                @click="restore(one.version)"
              />
            </td>
          </tr>
        </tbody>
      </table>
    </div>
    <p class="row">
      <Button
        :label="`Compare version ${from} with version ${to}`"
        size="small"
        :disabled="working || from === to"
        @click="compare"
      />
      <span class="faint">A rollback is a draft: you see its impact before you publish it.</span>
    </p>
    <p v-if="trouble" class="sheet trouble" role="alert">{{ trouble }}</p>
    <template v-if="found">
      <section v-if="found.impact" class="sheet">
        <h2>Impact</h2>
        <RuleImpact :impact="found.impact" :sides="[`Version ${from}`, `Version ${to}`]" />
      </section>
      <section class="sheet">
        <h2>Differences</h2>
        <RuleDifference :files="found.files" />
      </section>
    </template>
  </Fetched>
</template>

<style scoped>
.trouble {
  border-left: 4px solid var(--bad);
}
</style>
