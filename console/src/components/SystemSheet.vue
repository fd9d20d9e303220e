<script setup lang="ts">
import { computed } from 'vue'
import type { System } from '@/api/client'
import { freshness, plural } from '@/words'
import ReadNow from './ReadNow.vue'
import { useNow } from './now'

const props = defineProps<{ system: System; readable?: boolean }>()
const now = useNow()
const reading = computed(() => props.system.full_reads[0])
/** The type with the oldest data stands for all. */
const oldest = computed(
  () =>
    [...(props.system.freshness ?? [])].sort(
      (a, b) => Number(a.connected) - Number(b.connected) || (a.as_of ?? '').localeCompare(b.as_of ?? ''),
    )[0],
)
const healths = {
  unknown: { word: 'not tested', tone: 'wait' },
  paused: { word: 'paused', tone: 'wait' },
  healthy: { word: 'healthy', tone: 'good' },
  degraded: { word: 'degraded', tone: 'bad' },
  unreachable: { word: 'unreachable', tone: 'bad' },
} as const
const health = computed(() => healths[props.system.health])
const role = computed(() => props.system.roles.join(', ') || 'none yet')
const failed = computed(() => props.system.steps.find((step) => step.state === 'failed'))
</script>

<template>
  <article class="sheet system" :class="health.tone">
    <div class="row spread">
      <h2>
        <RouterLink :to="{ name: 'system', params: { name: system.name } }">{{ system.name }}</RouterLink>
      </h2>
      <span class="state"><i class="dot" aria-hidden="true" /> {{ health.word }}</span>
    </div>
    <div class="faint wrap mono">{{ system.address }}</div>
    <dl>
      <div>
        <dt>Accounts</dt>
        <dd class="big">{{ system.accounts }}</dd>
      </div>
      <div>
        <dt>Linked</dt>
        <dd class="big">{{ system.linked }}</dd>
      </div>
      <div>
        <dt>Access</dt>
        <dd>
          {{ system.writable.length ? `writes ${system.writable.join(', ')}` : 'read-only'
          }}<span v-if="!system.armed" class="faint"> · not armed</span>
        </dd>
      </div>
      <div>
        <dt>Data age</dt>
        <dd>
          {{ oldest?.action_needed ? `${oldest.object} ${freshness(oldest, now)}` : freshness(oldest, now) }}
        </dd>
      </div>
      <div>
        <dt>Role</dt>
        <dd>{{ role }}</dd>
      </div>
    </dl>
    <ReadNow v-if="readable && system.kind !== 'push'" :systems="[system.name]" class="read" />
    <p class="more">
      <RouterLink :to="{ name: 'scope', params: { name: system.name } }">Scope</RouterLink>
      ·
      <RouterLink :to="{ name: 'matches', params: { name: system.name } }">Matches</RouterLink>
      <span v-if="reading?.quarantined" class="faint">
        · {{ plural(reading.quarantined, 'row') }} in quarantine</span
      >
    </p>
    <p v-if="failed && system.health === 'unreachable'" class="trouble">
      {{ failed.name }}: {{ failed.message }}. To do: {{ failed.remedy }}
    </p>
    <p v-else-if="system.health_reason" class="trouble">{{ system.health_reason }}</p>
  </article>
</template>

<style scoped>
.system {
  border-top: 4px solid var(--line);
  margin: 0;
}
.system.good {
  border-top-color: var(--good);
}
.system.bad {
  border-top-color: var(--bad);
}
.system.wait {
  border-top-color: var(--lamp);
}
h2 {
  margin: 0;
}
.dot {
  display: inline-block;
  width: 0.6rem;
  height: 0.6rem;
  border-radius: 50%;
  background: currentColor;
}
.good .state {
  color: var(--good);
}
.bad .state {
  color: var(--bad);
}
.wait .state {
  color: var(--wait);
}
dl {
  display: flex;
  gap: 0.6rem 1.1rem;
  margin: 0.8rem 0 0;
  flex-wrap: wrap;
}
dt {
  color: var(--faint);
  font-size: 0.82rem;
}
dd {
  margin: 0;
}
.big {
  font-size: 1.5rem;
  line-height: 1.2;
  font-variant-numeric: tabular-nums;
}
.read {
  float: right;
  margin-top: 0.4rem;
}
.more {
  margin: 0.6rem 0 0;
}
.trouble {
  color: var(--bad);
  margin: 0.7rem 0 0;
}
</style>
