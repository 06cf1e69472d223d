// What the pages draw with, and nothing else: points, lines, axes, a zoom and a legend, as SVG.
import {init, use} from "echarts/core";
import {LineChart, ScatterChart} from "echarts/charts";
import {
  AriaComponent, DataZoomComponent, GridComponent, LegendComponent, ToolboxComponent,
  TooltipComponent
} from "echarts/components";
import {SVGRenderer} from "echarts/renderers";

use([
  LineChart, ScatterChart, AriaComponent, DataZoomComponent, GridComponent, LegendComponent,
  ToolboxComponent, TooltipComponent, SVGRenderer
]);
window.echarts = {init: init};
