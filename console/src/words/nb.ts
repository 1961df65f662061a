import { dateNbNO, nbNO } from 'naive-ui'

import texts from './nb.json'

export default { texts: texts as Record<string, string>, components: { locale: nbNO, dates: dateNbNO } }
