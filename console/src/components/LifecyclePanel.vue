<script setup lang="ts">
import Button from 'primevue/button'
import { computed, ref } from 'vue'
import { api, take } from '@/api/client'
import Fetched from '@/components/Fetched.vue'
import DepartureDialog from '@/components/DepartureDialog.vue'
import Mark from '@/components/Mark.vue'
import { useFetched } from '@/components/fetched'
import { timeline } from '@/components/lifecycle'
import { minute } from '@/words'

/** The lifecycle of a person: past and planned moments, with today between them. */
const props = defineProps<{ id: string; label: string }>()
const emit = defineEmits<{ changed: [] }>()
const { data, error, loading, load } = useFetched(
  () => take(api.GET('/api/v1/identities/{id}/lifecycle', { params: { path: { id: props.id } } })),
  (event) => event.event === 'change_set' && event.state === 'done',
)
const leaving = ref(false)
const refused = ref('')
const points = computed(() => timeline(data.value?.moments ?? []))

async function reinstate() {
  try {
    await take(api.DELETE('/api/v1/identities/{id}/departure', { params: { path: { id: props.id } } }))
    refused.value = ''
    await reload()
  } catch (problem) {
    refused.value = (problem as Error).message
  }
}
async function reload() {
  await load()
  emit('changed')
}
</script>

<template>
  <section class="sheet">
    <Fetched :loading="loading" :error="error" @retry="load">
      <template v-if="data">
        <div class="row spread">
          <div class="row">
            <h2 class="title">Lifecycle</h2>
            <Mark :word="data.stage" />
            <span>{{ data.reason?.text ?? (data.since ? `since ${minute(data.since)}` : '') }}</span>
            <span class="faint mono">{{ data.rule }}</span>
          </div>
          <Button
            v-if="!data.departure && data.stage !== 'left'"
            label="Start departure…"
            size="small"
            severity="secondary"
            @click="leaving = true"
          />
          <Button
            v-else-if="data.departure"
            label="Cancel departure"
            size="small"
            severity="secondary"
            @click="reinstate"
          />
        </div>
        <p v-if="data.departure && data.stage !== 'left'" class="said">
          Departure scheduled by {{ data.departure.by }} for
          <strong>{{ minute(data.departure.at) }}</strong>{{
            data.departure.comment ? `: “${data.departure.comment}”` : ''
          }}
        </p>
        <p v-if="refused" class="bad" role="alert">{{ refused }}</p>
        <ol v-if="data.moments.length" class="line" aria-label="Timeline">
          <li v-for="point in points" :key="point.key" :class="point.tone">
            <span class="dot" aria-hidden="true"></span>
            <strong>{{ point.what }}</strong>
            <time>{{ point.when }}</time>
          </li>
        </ol>
        <p v-else class="faint said">
          No dates. <code>lifecycle.toml</code> names the attributes that contain them.
        </p>
      </template>
    </Fetched>
    <DepartureDialog :id="id" v-model:visible="leaving" :label="label" @left="reload" />
  </section>
</template>

<style scoped>
.title {
  margin: 0;
}
.said {
  margin: 0.6rem 0 0;
}
.line {
  list-style: none;
  display: flex;
  margin: 1.1rem 0 0;
  padding: 0;
}
.line li {
  flex: 1;
  display: grid;
  gap: 0.1rem;
  position: relative;
  padding-top: 1.1rem;
  border-top: 3px solid var(--line);
  font-size: 0.92rem;
}
.line li.past,
.line li.now {
  border-top-color: var(--good);
}
.line li:last-child {
  border-top-color: transparent;
}
.dot {
  position: absolute;
  top: -0.55rem;
  width: 0.95rem;
  height: 0.95rem;
  border: 3px solid var(--line);
  background: var(--sheet);
  transform: rotate(45deg);
}
.past .dot {
  border-color: var(--good);
  background: var(--good);
}
.now .dot {
  border-color: var(--lamp);
  background: var(--lamp);
}
.line li.now {
  border-top-color: var(--line);
}
time {
  color: var(--faint);
}
.bad {
  color: var(--bad);
}
</style>
