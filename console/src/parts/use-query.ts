// A page's place in the URL: values of the query as refs, so that a link, a
// reload and the back button bring the same view.
import { customRef, type Ref } from 'vue'
import { useRoute, useRouter, type LocationQuery, type Router } from 'vue-router'

// What is set in one go is one step of the history.
let next: LocationQuery | null = null

function step(router: Router, now: LocationQuery, change: (query: LocationQuery) => void): void {
  const first = !next
  next ??= { ...now }
  change(next)
  if (!first) return
  queueMicrotask(() => {
    const query = next ?? {}
    next = null
    void router.push({ query })
  })
}

/** A ref over one value of the URL's query; others named in resets are dropped when it changes. */
export function useQuery<T extends string>(name: string, otherwise: T, ...resets: string[]): Ref<T> {
  const route = useRoute()
  const router = useRouter()
  return customRef(() => ({
    get: () => (typeof route.query[name] === 'string' ? (route.query[name] as T) : otherwise),
    set: (value: T) =>
      step(router, route.query, (query) => {
        for (const reset of resets) delete query[reset]
        if (value === otherwise || value == null) delete query[name]
        else query[name] = value
      }),
  }))
}
