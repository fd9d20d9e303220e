import { onScopeDispose, ref } from 'vue'

/** The current time, updated every `every` milliseconds, so that ages on an open page stay correct. */
export function useNow(every = 10_000) {
  const now = ref(Date.now())
  const timer = setInterval(() => (now.value = Date.now()), every)
  onScopeDispose(() => clearInterval(timer))
  return now
}
