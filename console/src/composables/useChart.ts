import type { EChartsCoreOption } from "echarts/core";
import { init, type ECharts } from "echarts/core";
import { useTheme } from "@/composables/useTheme";
import { onMounted, onUnmounted, ref, watch, type WatchSource } from "vue";

/** A value of the one file of CSS variables. */
export const colour = (name: string) =>
  getComputedStyle(document.documentElement).getPropertyValue(name).trim();

/** A chart in an element of the page, drawn again when its sources change. */
export function useChart(options: () => EChartsCoreOption, sources: WatchSource[]) {
  const place = ref<HTMLElement | null>(null);
  let chart: ECharts | null = null;
  const draw = () => chart?.setOption(options(), true);
  const resize = () => chart?.resize();

  onMounted(() => {
    if (!place.value) return;
    chart = init(place.value, null, { renderer: "svg" });
    draw();
    window.addEventListener("resize", resize);
  });
  onUnmounted(() => {
    window.removeEventListener("resize", resize);
    chart?.dispose();
  });
  // After the page has taken the other theme's colours on.
  watch([...sources, useTheme().dark], draw, { flush: "post" });
  return place;
}
