// What is being typed, handed on once the typing rests, so that a search does
// not start at every letter. A change from elsewhere, such as the back button,
// shows in the field, but never over what is just being typed.
import { onScopeDispose, ref, watch, type Ref } from 'vue'
import { useRouter } from 'vue-router'

const rest = 250 // ms

export function useTyped(text: Ref<string>): Ref<string> {
  const typed = ref(text.value)
  let timer = 0
  watch(typed, (value) => {
    window.clearTimeout(timer)
    timer = window.setTimeout(() => {
      timer = 0
      text.value = value
    }, rest)
  })
  watch(text, (value) => {
    if (!timer) typed.value = value
  })
  // Whoever goes to another page is not called back by what they typed on this one.
  const forget = () => {
    window.clearTimeout(timer)
    timer = 0
  }
  const stay = useRouter().beforeEach((to, from) => void (to.path !== from.path && forget()))
  onScopeDispose(() => {
    stay()
    forget()
  })
  return typed
}
