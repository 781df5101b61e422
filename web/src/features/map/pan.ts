import { select } from "d3-selection";
import { zoom as d3zoom, type D3ZoomEvent, type ZoomBehavior, type ZoomTransform } from "d3-zoom";
import { useCallback, useEffect, useRef } from "react";

export const maxZoom = 60;

/** usePan pans and zooms a map: the land moves by a transform, what else is drawn by the state that onMove gets. */
export function usePan(width: number, height: number, onMove: (at: ZoomTransform) => void) {
  const svg = useRef<SVGSVGElement>(null);
  const base = useRef<SVGGElement>(null);
  const behaviour = useRef<ZoomBehavior<SVGSVGElement, unknown>>(null);
  useEffect(() => {
    const element = svg.current;
    if (!element || !width) return;
    const made = d3zoom<SVGSVGElement, unknown>()
      .scaleExtent([1, maxZoom])
      .extent([
        [0, 0],
        [width, height],
      ])
      .translateExtent([
        [0, 0],
        [width, height],
      ])
      .on("zoom", (event: D3ZoomEvent<SVGSVGElement, unknown>) => {
        base.current?.setAttribute("transform", event.transform.toString());
        onMove(event.transform);
      });
    behaviour.current = made;
    const selection = select(element).call(made);
    return () => void selection.on(".zoom", null);
  }, [width, height, onMove]);

  const moveTo = useCallback((t: ZoomTransform) => {
    if (svg.current && behaviour.current) select(svg.current).call(behaviour.current.transform, t);
  }, []);
  const zoomBy = useCallback((factor: number) => {
    if (svg.current && behaviour.current) select(svg.current).call(behaviour.current.scaleBy, factor);
  }, []);
  const panBy = useCallback((x: number, y: number) => {
    if (svg.current && behaviour.current) select(svg.current).call(behaviour.current.translateBy, x, y);
  }, []);
  return { svg, base, moveTo, zoomBy, panBy };
}
