import { dateDeDE, deDE } from 'naive-ui'

import texts from './de.json'

export default { texts: texts as Record<string, string>, components: { locale: deDE, dates: dateDeDE } }
