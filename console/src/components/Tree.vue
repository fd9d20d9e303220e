<script setup lang="ts">
import { onMounted, ref } from 'vue'
import type { Schemas } from '@/api/client'

type Branch = Schemas['Branch']

/** A directory's tree, loaded level by level; each container can be included or excluded. */
const props = defineProps<{
  load: (below: string | null) => Promise<Branch[]>
  below?: string | null
  within: Schemas['ScopeContainer'][]
  except: Schemas['ScopeContainer'][]
}>()
const emit = defineEmits<{ choose: [dn: string, act: 'in' | 'one' | 'out' | 'none'] }>()

const branches = ref<Branch[]>([])
const open = ref(new Set<string>())
const fault = ref('')
const loading = ref(true)

onMounted(async () => {
  try {
    branches.value = await props.load(props.below ?? null)
    // Expand the top level at once.
    if (!props.below) branches.value.forEach((branch) => open.value.add(branch.dn))
  } catch (problem) {
    fault.value = (problem as Error).message
  } finally {
    loading.value = false
  }
})

const same = (a: string, b: string) =>
  a.toLowerCase().replace(/,\s+/g, ',') === b.toLowerCase().replace(/,\s+/g, ',')
function choice(dn: string) {
  const taken = props.within.find((container) => same(container.dn, dn))
  if (taken) return taken.one_level ? 'one' : 'in'
  return props.except.some((container) => same(container.dn, dn)) ? 'out' : 'none'
}
function label(dn: string) {
  return props.below ? dn.slice(0, dn.length - props.below.length - 1) || dn : dn
}
function toggle(dn: string) {
  if (!open.value.delete(dn)) open.value.add(dn)
}
</script>

<template>
  <p v-if="fault" class="bad" role="alert">{{ fault }}</p>
  <p v-else-if="loading" class="faint" aria-busy="true">Loading…</p>
  <p v-else-if="!branches.length" class="faint">No containers here.</p>
  <ul v-else>
    <li v-for="branch in branches" :key="branch.dn">
      <div class="branch" :class="choice(branch.dn)">
        <button
          type="button"
          class="fold"
          :aria-expanded="open.has(branch.dn)"
          :aria-label="`${open.has(branch.dn) ? 'Collapse' : 'Expand'} ${label(branch.dn)}`"
          :disabled="branch.leaf"
          @click="toggle(branch.dn)"
        >
          {{ branch.leaf ? '·' : open.has(branch.dn) ? '▾' : '▸' }}
        </button>
        <span class="name mono">{{ label(branch.dn) }}</span>
        <span class="faint">{{ branch.people ?? '—' }}{{ branch.is_truncated ? '+' : '' }} people</span>
        <select
          :value="choice(branch.dn)"
          :aria-label="`Scope of ${label(branch.dn)}`"
          @change="emit('choose', branch.dn, ($event.target as HTMLSelectElement).value as 'in')"
        >
          <option value="none">inherit</option>
          <option value="in">include subtree</option>
          <option value="one">include this level only</option>
          <option value="out">exclude</option>
        </select>
      </div>
      <Tree
        v-if="open.has(branch.dn)"
        :load="load"
        :below="branch.dn"
        :within="within"
        :except="except"
        @choose="(dn, act) => emit('choose', dn, act)"
      />
    </li>
  </ul>
</template>

<style scoped>
ul {
  list-style: none;
  margin: 0;
  padding-left: 1.1rem;
}
.branch {
  display: grid;
  grid-template-columns: 1.6rem 1fr auto auto;
  gap: 0.6rem;
  align-items: center;
  padding: 0.15rem 0.4rem;
  border-left: 3px solid transparent;
}
.branch.in,
.branch.one {
  border-left-color: var(--good);
}
.branch.out {
  border-left-color: var(--bad);
}
.fold {
  border: 0;
  background: none;
  color: inherit;
  cursor: pointer;
  font-size: 1rem;
}
.fold:disabled {
  cursor: default;
}
select {
  font: inherit;
  padding: 0.15rem 0.3rem;
  background: var(--sheet);
  color: inherit;
  border: 1px solid var(--line);
}
.bad {
  color: var(--bad);
}
</style>
