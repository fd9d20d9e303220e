import { onScopeDispose, ref } from 'vue'

/** The time as it goes by, so that an age on an open page stays true. */
export function useNow(every = 10_000) {
  const now = ref(Date.now())
  const timer = setInterval(() => (now.value = Date.now()), every)
  onScopeDispose(() => clearInterval(timer))
  return now
}
