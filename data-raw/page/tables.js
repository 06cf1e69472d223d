// What the page's table needs, and nothing else: sorting, filtering, its own cells, clicks, widths.
import {
  FilterModule, FormatModule, InteractionModule, ResizeColumnsModule, ResizeTableModule, SortModule,
  Tabulator
} from "tabulator-tables";

Tabulator.registerModule([
  FilterModule, FormatModule, InteractionModule, ResizeColumnsModule, ResizeTableModule, SortModule
]);
window.Tabulator = Tabulator;
