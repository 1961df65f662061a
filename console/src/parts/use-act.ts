// Something that is done on a click: busy while it goes on, and told where it was
// refused.
import { useMessage } from 'naive-ui'
import { ref } from 'vue'

export function useAct() {
  const message = useMessage()
  const busy = ref(false)
  /** Does the work; what it gives, or undefined where it was refused. */
  async function act<T>(work: () => Promise<T>): Promise<T | undefined> {
    busy.value = true
    try {
      return await work()
    } catch (e) {
      message.error((e as Error).message, { duration: 9000, closable: true })
      return undefined
    } finally {
      busy.value = false
    }
  }
  return { busy, act }
}
