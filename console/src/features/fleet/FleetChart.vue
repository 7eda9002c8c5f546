<script setup lang="ts">
import { BarChart } from "echarts/charts";
import {
  AriaComponent,
  GridComponent,
  LegendComponent,
  TooltipComponent,
} from "echarts/components";
import { use } from "echarts/core";
import { SVGRenderer } from "echarts/renderers";
import { computed } from "vue";

import type { CertificateDay } from "@/api/client";
import { colour, useChart } from "@/composables/useChart";

use([BarChart, GridComponent, LegendComponent, TooltipComponent, AriaComponent, SVGRenderer]);

// How many certificates are renewed and run out in each of the coming weeks.
const props = defineProps<{ days: CertificateDay[] }>();
const WEEKS = 18;

const weeks = computed(() => {
  const sums = Array.from({ length: WEEKS }, () => ({ renewing: 0, ending: 0 }));
  for (const day of props.days) {
    const week = sums[Math.min(Math.floor(day.day / 7), WEEKS - 1)];
    if (!week) continue;
    week.renewing += day.renewing;
    week.ending += day.ending;
  }
  return sums;
});
const label = (week: number) =>
  new Date(Date.now() + week * 7 * 86400000).toLocaleDateString("en-GB", {
    day: "numeric",
    month: "short",
  });
function options() {
  const text = { color: colour("--ink-soft"), fontFamily: colour("--prose"), fontSize: 13 };
  const hairline = { lineStyle: { color: colour("--hairline") } };
  const bars = { type: "bar" as const, animation: false, barMaxWidth: 18, barGap: "15%" };
  return {
    aria: { enabled: true, label: { description: told() } },
    grid: { left: 40, right: 12, top: 40, bottom: 28 },
    legend: { left: 0, top: 0, itemWidth: 14, textStyle: text },
    tooltip: { trigger: "axis", axisPointer: { type: "shadow" } },
    xAxis: {
      type: "category",
      data: weeks.value.map((_, week) => (week === 0 ? "now" : label(week))),
      axisLabel: { ...text, hideOverlap: true },
      axisLine: hairline,
      axisTick: { show: false },
    },
    yAxis: { type: "value", minInterval: 1, axisLabel: text, splitLine: hairline },
    series: [
      {
        ...bars,
        name: "to be renewed",
        data: weeks.value.map((w) => w.renewing || null),
        itemStyle: {
          color: colour("--act-wash"),
          borderColor: colour("--act"),
          borderWidth: 1.5,
        },
      },
      {
        ...bars,
        name: "running out",
        data: weeks.value.map((w) => w.ending || null),
        itemStyle: { color: colour("--act") },
      },
    ],
  };
}

function told(): string {
  const month = weeks.value.slice(0, 4);
  const sum = (of: (w: { renewing: number; ending: number }) => number) =>
    month.reduce((total, week) => total + of(week), 0);
  return `Within four weeks ${sum((w) => w.renewing)} are renewed and ${sum((w) => w.ending)} run out.`;
}

const place = useChart(options, [weeks]);
</script>

<template>
  <div ref="place" class="chart"></div>
</template>

<style scoped>
.chart {
  height: 230px;
}
</style>
