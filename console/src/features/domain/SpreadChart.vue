<script setup lang="ts">
import { LineChart } from "echarts/charts";
import { AriaComponent, GridComponent, MarkLineComponent } from "echarts/components";
import { use } from "echarts/core";
import { SVGRenderer } from "echarts/renderers";
import { computed } from "vue";

import type { SpreadPoint, Wait } from "@/api/client";
import { colour, useChart } from "@/composables/useChart";

use([LineChart, GridComponent, MarkLineComponent, AriaComponent, SVGRenderer]);

// How the routing spread over the vantages, and how it will: solid up to now,
// dashed from now to the moments at which the late ones let go.
const props = defineProps<{ spreads: SpreadPoint[]; waits: Wait[]; now: number }>();

const count = computed(() => Math.max(props.waits.length, 1));
const past = computed(() => {
  const points = props.spreads.map((p): [number, number] => [Date.parse(p.at), p.seeing.length]);
  const last = points.at(-1);
  return last ? [...points, [props.now, last[1]]] : [];
});
const future = computed(() => {
  const ends = props.waits.flatMap((w) => (!w.sees && w.until ? [Date.parse(w.until)] : []));
  const seeing = props.waits.filter((w) => w.sees).length;
  const later = ends
    .sort((a, b) => a - b)
    .map((at, i): [number, number] => [Math.max(at, props.now), seeing + i + 1]);
  return later.length ? [[props.now, seeing], ...later] : [];
});

function options() {
  const line = { type: "line" as const, step: "end" as const, symbol: "none", animation: false };
  const soft = colour("--ink-soft");
  const hairline = { lineStyle: { color: colour("--hairline") } };
  const text = { color: soft, fontFamily: colour("--prose"), fontSize: 13 };
  return {
    aria: { enabled: true, label: { description: told() } },
    grid: { left: 84, right: 24, top: 24, bottom: 28 },
    xAxis: {
      type: "time",
      axisLabel: { ...text, hideOverlap: true },
      axisLine: hairline,
      splitLine: { show: false },
    },
    yAxis: {
      type: "value",
      min: 0,
      max: count.value,
      interval: 1,
      axisLabel: {
        ...text,
        formatter: (n: number) => (n === count.value ? `all ${n} see it` : `${n}`),
      },
      splitLine: hairline,
    },
    series: [
      { ...line, data: past.value, lineStyle: { color: colour("--act"), width: 3 } },
      {
        ...line,
        data: future.value,
        lineStyle: { color: colour("--waiting"), width: 2, type: "dashed" },
        markLine: {
          silent: true,
          symbol: "none",
          animation: false,
          label: { ...text, formatter: "now" },
          lineStyle: { color: soft, type: "dotted" },
          data: future.value.length ? [{ xAxis: props.now }] : [],
        },
      },
    ],
  };
}

function told(): string {
  const last = props.spreads.at(-1);
  return `${last?.seeing.length ?? 0} of ${count.value} vantages see the routing.`;
}

const place = useChart(options, [past, future]);
</script>

<template>
  <div ref="place" class="chart"></div>
</template>

<style scoped>
.chart {
  height: 170px;
}
</style>
