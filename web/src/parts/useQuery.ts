// A page's place in the URL: values of the query as refs, so that a link, a
// reload and the back button bring the same view.
import { customRef, type Ref } from 'vue'
import { useRoute, useRouter } from 'vue-router'

/** A ref over one value of the URL's query; others named in resets are dropped when it changes. */
export function useQuery<T extends string>(name: string, otherwise: T, ...resets: string[]): Ref<T> {
  const route = useRoute()
  const router = useRouter()
  return customRef(() => ({
    get: () => (typeof route.query[name] === 'string' ? (route.query[name] as T) : otherwise),
    set: (value: T) => {
      const query = { ...route.query }
      for (const reset of resets) delete query[reset]
      if (value === otherwise || value == null) delete query[name]
      else query[name] = value
      void router.push({ query })
    },
  }))
}
