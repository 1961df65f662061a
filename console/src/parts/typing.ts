// Whether a key is typed into a field, so that it means itself.
export function typesInto(event: KeyboardEvent): boolean {
  const into = event.target as HTMLElement
  return (
    event.ctrlKey ||
    event.metaKey ||
    event.altKey ||
    into.isContentEditable ||
    ['INPUT', 'TEXTAREA', 'SELECT'].includes(into.tagName)
  )
}
