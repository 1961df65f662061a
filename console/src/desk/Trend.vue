<script setup lang="ts">
// How things went on each of the last days, drawn: changes, removals, problems, and how long
// runs took.
import { onMounted, onUnmounted, shallowRef, useTemplateRef, watch } from 'vue'

import type { Schemas } from '../api/client'
import { day as light, night } from '../state/palette'
import { dark } from '../state/theme'
import type { EChartsType } from './charts'
import { series } from './trend'

const props = defineProps<{ days: Schemas['TrendDay'][] }>()
const places = {
  changes: useTemplateRef('changes'),
  problems: useTemplateRef('problems'),
  took: useTemplateRef('took'),
}
const charts = shallowRef<EChartsType[]>([])
const missing = shallowRef(false)
const library = shallowRef<typeof import('./charts')>()

function draw(): void {
  if (!library.value) return
  for (const chart of charts.value) chart.dispose()
  charts.value = []
  const colours = dark.value ? night : light
  for (const [name, place] of Object.entries(places)) {
    if (!place.value) continue
    const chart = library.value.init(place.value, null, { renderer: 'svg' })
    chart.setOption({
      aria: { enabled: true },
      animation: false,
      grid: { left: 44, right: 8, top: 30, bottom: 22 },
      tooltip: { trigger: 'axis' },
      legend: { top: 0, left: 0, textStyle: { color: colours.ink2 }, itemWidth: 12, itemHeight: 8 },
      xAxis: {
        type: 'category',
        data: props.days.map((d) => d.day.slice(5)),
        axisLabel: { color: colours.ink3 },
        axisLine: { lineStyle: { color: colours.line } },
      },
      yAxis: {
        type: 'value',
        minInterval: name === 'took' ? undefined : 1,
        axisLabel: { color: colours.ink3, formatter: name === 'took' ? '{value} s' : undefined },
        splitLine: { lineStyle: { color: colours.lineThin } },
      },
      series: series(name as keyof typeof places, props.days, colours),
    })
    charts.value.push(chart)
  }
}
const resize = () => charts.value.forEach((chart) => chart.resize())
const rest = () => new Promise<unknown>((done) => (window.requestIdleCallback ?? window.setTimeout)(done))
onMounted(() => {
  void rest()
    .then(() => import('./charts'))
    .then((loaded) => (library.value = loaded))
    .catch(() => (missing.value = true))
  window.addEventListener('resize', resize)
})
onUnmounted(() => {
  window.removeEventListener('resize', resize)
  for (const chart of charts.value) chart.dispose()
})
watch([() => props.days, dark, library], draw)
</script>

<template>
  <p v-if="missing" class="quiet">The charts cannot be loaded; load the page again.</p>
  <div v-else class="charts">
    <section class="sheet">
      <header><h2>Changes by day</h2></header>
      <div ref="changes" class="chart" />
    </section>
    <section class="sheet">
      <header>
        <h2>Problems by day</h2>
        <RouterLink :to="{ name: 'problems' }">All problems</RouterLink>
      </header>
      <div ref="problems" class="chart" />
    </section>
    <section class="sheet">
      <header><h2>Longest run by day</h2></header>
      <div ref="took" class="chart" />
    </section>
  </div>
</template>

<style scoped>
.charts {
  display: grid;
  grid-template-columns: repeat(auto-fit, minmax(310px, 1fr));
  gap: 14px;
  margin-top: 14px;
}
.chart {
  height: 190px;
  padding: 6px 10px;
}
</style>
