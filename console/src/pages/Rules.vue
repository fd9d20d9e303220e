<script setup lang="ts">
import Tab from 'primevue/tab'
import TabList from 'primevue/tablist'
import TabPanel from 'primevue/tabpanel'
import TabPanels from 'primevue/tabpanels'
import Tabs from 'primevue/tabs'
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { useRouter } from 'vue-router'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import ReadNow from '@/components/ReadNow.vue'
import RuleTable from '@/components/RuleTable.vue'
import EvaluateRule from '@/components/EvaluateRule.vue'
import { useFetched } from '@/components/fetched'
import { time } from '@/words'

const router = useRouter()
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/rules')),
  (event) => event.event === 'rules' || (event.event === 'full_read' && event.state !== 'running'),
)
const toRead = computed(() => [...new Set((data.value?.required_reads ?? []).map((one) => one.system))])
/** Systems by what must be read. */
const unread = computed(() => {
  const all: Record<string, string[]> = {}
  for (const { object, action_needed, system } of data.value?.required_reads ?? [])
    (all[`${object} ${action_needed}`] ??= []).push(system)
  return all
})
const drafts = useFetched(
  () => take(api.GET('/api/v1/rules/drafts')),
  (event) => event.event === 'rules',
)
/** A system has a tab for each of its types. */
const key = (of: { system: string; object: string }) =>
  of.object === 'person' ? of.system : `${of.system} · ${of.object}`
const trouble = ref('')
async function edit() {
  try {
    const draft = await take(api.POST('/api/v1/rules/drafts', { body: { name: '' } }))
    await router.push({ name: 'draft', params: { id: draft.id } })
  } catch (problem) {
    trouble.value = (problem as Error).message
  }
}
</script>

<template>
  <div class="row spread">
    <h1>Rules</h1>
    <div class="row">
      <RouterLink :to="{ name: 'history' }">Versions</RouterLink>
      <Button label="Edit in a draft" size="small" @click="edit" />
    </div>
  </div>
  <p v-if="trouble" class="sheet fault error" role="alert">{{ trouble }}</p>
  <p v-if="drafts.data.value?.length" class="sheet fault">
    Open drafts:
    <template v-for="(draft, at) in drafts.data.value" :key="draft.id">
      <template v-if="at">, </template>
      <RouterLink :to="{ name: 'draft', params: { id: draft.id } }">{{ draft.name }}</RouterLink>
      <span class="faint"> ({{ draft.changed_by }}, {{ time(draft.changed_at) }})</span>
    </template>
  </p>
  <Fetched :loading="loading" :error="error" :empty="data?.version === 0" @retry="load">
    <template #empty>
      No rules are published yet. They are a folder of TOML files: <code>eager-tide rules check FOLDER</code>,
      then <code>eager-tide rules publish FOLDER</code>.
    </template>
    <template v-if="data">
      <p class="faint">
        Version {{ data.version }}, published {{ time(data.created_at) }} by {{ data.principal }}. Edit the
        rules in a draft, which shows their impact before you publish it, or publish a folder of files with
        <code>eager-tide rules publish FOLDER</code>.
      </p>
      <div v-if="data.required_reads?.length" class="sheet fault offer">
        <span>
          These rules need data that has not been read yet:
          <template v-for="(systems, what, at) in unread" :key="what"
            ><template v-if="at">; </template>type {{ what }} (<strong>{{ systems.join(', ') }}</strong
            >)</template
          >.
        </span>
        <ReadNow :systems="toRead" @read="load" />
      </div>
      <div
        v-for="fault in data.faults"
        :key="fault.file + fault.line + fault.message"
        class="sheet fault"
        :class="fault.severity"
      >
        <strong>{{ fault.severity }}</strong>
        <span class="mono">{{ fault.file }}:{{ fault.line }}:{{ fault.column }}</span> {{ fault.message }}
        <div v-if="fault.help" class="faint">{{ fault.help }}</div>
      </div>
      <Tabs :value="data.systems[0] ? key(data.systems[0]) : 'identities'">
        <TabList>
          <Tab v-for="system in data.systems" :key="system.system + system.object" :value="key(system)">{{
            key(system)
          }}</Tab>
          <Tab value="identities">identities and guards</Tab>
          <Tab value="files">files</Tab>
        </TabList>
        <TabPanels>
          <TabPanel v-for="system in data.systems" :key="system.system + system.object" :value="key(system)">
            <p>
              Type <strong>{{ system.object }}</strong><template v-if="system.outbound.length">
                · out of scope: <strong>{{ system.on_out_of_scope }}</strong></template
              >
            </p>
            <RuleTable title="Scope" :lines="system.scope" :head="['', 'Container or condition']" />
            <RuleTable
              title="Match rules"
              :lines="system.matching"
              :head="['Action', 'Account = identity']"
            />
            <RuleTable
              title="Inbound: account → identity"
              :lines="system.inbound"
              :head="['Identity attribute', 'Expression']"
            />
            <RuleTable
              title="Outbound: identity → account"
              :lines="system.outbound"
              :head="['Account attribute', 'Expression']"
            />
            <RuleTable
              title="External changes and initial passwords"
              :lines="system.otherwise"
              :head="['Event', 'Action']"
            />
            <RuleTable
              title="Examples: checked with the rules"
              :lines="system.examples"
              :head="['Name', 'Expected']"
            />
          </TabPanel>
          <TabPanel value="identities">
            <RuleTable
              title="Attributes of identities"
              :lines="data.identities"
              :head="['Attribute', 'Type']"
            />
            <RuleTable
              title="Guards: changes beyond these limits are held"
              :lines="data.guards"
              :head="['Change', 'Limit']"
            />
            <RuleTable title="Webhooks" :lines="data.webhooks" :head="['Webhook', 'URL']" />
          </TabPanel>
          <TabPanel value="files">
            <details v-for="file in data.files" :key="file.name" open>
              <summary class="mono">{{ file.name }}</summary>
              <pre tabindex="0">{{ file.text }}</pre>
            </details>
          </TabPanel>
        </TabPanels>
      </Tabs>
      <EvaluateRule :systems="[...new Set(data.systems.map((one) => one.system))]" />
    </template>
  </Fetched>
</template>

<style scoped>
pre {
  background: var(--paper);
  border: 1px solid var(--line);
  padding: 0.8rem;
  overflow: auto;
  font-family: var(--mono);
  font-size: 0.85rem;
}
.fault {
  border-left: 4px solid var(--lamp);
  margin-bottom: 0.6rem;
}
.offer {
  display: flex;
  gap: 1rem;
  align-items: center;
  justify-content: space-between;
}
.offer button {
  flex-shrink: 0;
}
.fault.error {
  border-left-color: var(--bad);
}
</style>
