<script setup lang="ts">
import Tab from 'primevue/tab'
import TabList from 'primevue/tablist'
import TabPanel from 'primevue/tabpanel'
import TabPanels from 'primevue/tabpanels'
import Tabs from 'primevue/tabs'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import RuleTable from '@/components/RuleTable.vue'
import Trial from '@/components/Trial.vue'
import { useFetched } from '@/components/fetched'
import { time } from '@/words'

const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/rules')),
  (event) => event.event === 'rules',
)
</script>

<template>
  <h1>Rules</h1>
  <Fetched :loading="loading" :error="error" :empty="data?.version === 0" @retry="load">
    <template #empty>
      No rules are published yet. They are a folder of TOML files: <code>eager-tide rules check FOLDER</code>,
      then <code>eager-tide rules publish FOLDER</code>.
    </template>
    <template v-if="data">
      <p class="faint">
        Version {{ data.version }}, published {{ time(data.made) }} by {{ data.principal }}. Edit the files
        and publish them with <code>eager-tide rules publish FOLDER</code>; here they are shown.
      </p>
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
      <Tabs :value="data.systems[0]?.system ?? 'identities'">
        <TabList>
          <Tab v-for="system in data.systems" :key="system.system + system.object" :value="system.system">{{
            system.system
          }}</Tab>
          <Tab value="identities">identities and guards</Tab>
          <Tab value="files">files</Tab>
        </TabList>
        <TabPanels>
          <TabPanel
            v-for="system in data.systems"
            :key="system.system + system.object"
            :value="system.system"
          >
            <p>
              Type <strong>{{ system.object }}</strong><template v-if="system.outbound.length">
                · whoever no longer takes part: <strong>{{ system.when_out }}</strong></template
              >
            </p>
            <RuleTable
              title="Scope: who takes part"
              :lines="system.scope"
              :head="['', 'Container or condition']"
            />
            <RuleTable
              title="Match: which account belongs to whom"
              :lines="system.matching"
              :head="['By', 'Account = identity']"
            />
            <RuleTable
              title="Inbound: account → identity"
              :lines="system.inbound"
              :head="['Identity’s attribute', 'Expression']"
            />
            <RuleTable
              title="Outbound: identity → account"
              :lines="system.outbound"
              :head="['Account’s attribute', 'Expression']"
            />
          </TabPanel>
          <TabPanel value="identities">
            <RuleTable title="What identities hold" :lines="data.identities" :head="['Attribute', 'Type']" />
            <RuleTable
              title="Guards: past these limits changes are held"
              :lines="data.guards"
              :head="['Change', 'Limit']"
            />
          </TabPanel>
          <TabPanel value="files">
            <details v-for="file in data.files" :key="file.name" open>
              <summary class="mono">{{ file.name }}</summary>
              <pre tabindex="0">{{ file.text }}</pre>
            </details>
          </TabPanel>
        </TabPanels>
      </Tabs>
      <Trial :systems="[...new Set(data.systems.map((one) => one.system))]" />
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
.fault.error {
  border-left-color: var(--bad);
}
</style>
