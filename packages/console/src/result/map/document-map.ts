import ScaleLine from 'ol/control/ScaleLine';
import Zoom from 'ol/control/Zoom';
import { shiftKeyOnly } from 'ol/events/condition';
import type { Extent } from 'ol/extent';
import type Feature from 'ol/Feature';
import GeoJSON from 'ol/format/GeoJSON';
import DragBox from 'ol/interaction/DragBox';
import { defaults as defaultInteractions } from 'ol/interaction/defaults';
import Graticule from 'ol/layer/Graticule';
import Layer from 'ol/layer/Layer';
import VectorLayer from 'ol/layer/Vector';
import OpenLayersMap from 'ol/Map';
import { fromLonLat, transformExtent } from 'ol/proj';
import VectorSource from 'ol/source/Vector';
import CircleStyle from 'ol/style/Circle';
import Fill from 'ol/style/Fill';
import Stroke from 'ol/style/Stroke';
import Style from 'ol/style/Style';
import Text from 'ol/style/Text';
import View from 'ol/View';
import type { Box } from './box';
import type { Geometry } from './read-places';
import type { MovingPoints } from './moving-points';
import { PointPainter, type PointStyle } from './point-painter';

/** A geometry that is not a point. */
export interface Shape {
  id: string;
  geometry: Geometry;
  colour: string;
  label: string;
}

/** A geometry of the base layer. */
export interface BaseShape {
  geometry: Geometry;
  label: string;
}

/** What a person does on the map. */
export interface MapEvents {
  /** Clicked a document; undefined: a place without one. */
  click(id: string | undefined, add: boolean): void;
  hover(id: string | undefined, xPx: number, yPx: number): void;
  box(box: Box): void;
}

/** Colours of the map itself. */
export interface MapColours {
  line: string;
  ink: string;
  base: string;
  paper: string;
  accent: string;
}

const REACH_PX = 11;
const PADDING_PX = 48;
const FORMAT = new GeoJSON({ dataProjection: 'EPSG:4326', featureProjection: 'EPSG:3857' });
/** A single place is not looked at from nearer than this, in zoom levels. */
const NEAREST = 15;

/** Degrees as units of the map's projection, Web Mercator. */
export const projected = (point: readonly [number, number]) => fromLonLat([...point]) as [number, number];

/** A map of documents: points that move, other geometries, a base layer, a graticule and a scale bar. Asks for nothing from outside. */
export class DocumentMap {
  readonly #map: OpenLayersMap;
  readonly #view = new View({ enableRotation: false, center: [0, 0], zoom: 2, maxZoom: 22, multiWorld: false });
  readonly #points: MovingPoints;
  readonly #pointLayer: Layer;
  readonly #shapes = new VectorSource();
  readonly #shapeLayer = new VectorLayer({ source: this.#shapes });
  readonly #base = new VectorSource();
  readonly #baseLayer = new VectorLayer({ source: this.#base });
  readonly #box = new DragBox({ condition: (event) => this.boxAlways || shiftKeyOnly(event) });
  #graticule: Graticule | undefined;
  #style: PointStyle;

  /** Whether dragging selects a box also without the Shift key. */
  boxAlways = false;

  constructor(element: HTMLElement, points: MovingPoints, style: PointStyle, events: MapEvents) {
    this.#points = points;
    this.#style = style;
    this.#pointLayer = this.#createPointLayer();
    this.#map = new OpenLayersMap({
      target: element,
      view: this.#view,
      layers: [this.#baseLayer, this.#shapeLayer, this.#pointLayer],
      controls: [new Zoom(), new ScaleLine({ minWidth: 80 })],
      interactions: defaultInteractions({ shiftDragZoom: false, altShiftDragRotate: false, pinchRotate: false }),
    });
    this.#map.addInteraction(this.#box);
    this.#box.on('boxend', () => {
      const extent = this.#box.getGeometry().getExtent();
      events.box(transformExtent(extent, 'EPSG:3857', 'EPSG:4326') as unknown as Box);
    });
    this.#map.on('click', ({ pixel, originalEvent }) => {
      const { ctrlKey, metaKey, shiftKey } = originalEvent as MouseEvent;
      events.click(this.#idAt(pixel), ctrlKey || metaKey || shiftKey);
    });
    this.#map.on('pointermove', ({ pixel, dragging }) => {
      const id = dragging ? undefined : this.#idAt(pixel);
      element.style.cursor = id === undefined ? '' : 'pointer';
      events.hover(id, pixel[0]!, pixel[1]!);
    });
  }

  /** The points are drawn by us: a layer of the package takes too long for ten thousand that move. */
  #createPointLayer(): Layer {
    const painter = new PointPainter();
    const canvas = document.createElement('canvas');
    canvas.style.cssText = 'position: absolute; width: 100%; height: 100%; pointer-events: none';
    return new Layer({
      render: ({ size, pixelRatio, viewState }) => {
        const [widthPx, heightPx] = size as [number, number];
        const [width, height] = [Math.round(widthPx * pixelRatio), Math.round(heightPx * pixelRatio)];
        if (canvas.width !== width || canvas.height !== height) Object.assign(canvas, { width, height });
        const now = performance.now();
        const [centreX, centreY] = viewState.center as [number, number];
        const { resolution } = viewState;
        const sight = { widthPx, heightPx, density: pixelRatio, centreX, centreY, resolution };
        painter.paint(canvas.getContext('2d')!, this.#points, this.#style, sight, now);
        if (this.#points.isMoving(now)) requestAnimationFrame(() => this.#pointLayer.changed());
        return canvas;
      },
    });
  }

  /** Draws the points as they are now. */
  draw(style: PointStyle): void {
    this.#style = style;
    this.#pointLayer.changed();
  }

  /** Shows the shapes of documents. */
  setShapes(shapes: readonly Shape[], picked: ReadonlySet<string>): void {
    const { accent, ink, paper } = this.#style;
    const features = shapes.map(({ id, geometry, colour, label }) => {
      const feature = FORMAT.readFeature({ type: 'Feature', geometry, properties: {} }) as Feature;
      feature.setId(id);
      const stroke = new Stroke({ color: picked.has(id) ? accent : colour, width: picked.has(id) ? 4 : 2 });
      const fill = new Fill({ color: `${colour}2e` });
      const text = new Text({
        text: label,
        font: '11px system-ui, sans-serif',
        fill: new Fill({ color: ink }),
        stroke: new Stroke({ color: paper, width: 3 }),
      });
      feature.setStyle(
        new Style({ stroke, fill, text, image: new CircleStyle({ radius: 4, fill: new Fill({ color: colour }) }) }),
      );
      return feature;
    });
    this.#shapes.clear(true);
    this.#shapes.addFeatures(features);
  }

  /** Shows geometries under everything else. */
  setBase(shapes: readonly BaseShape[]): void {
    this.#base.clear(true);
    this.#base.addFeatures(
      shapes.map(
        ({ geometry, label }) => FORMAT.readFeature({ type: 'Feature', geometry, properties: { label } }) as Feature,
      ),
    );
  }

  /** Colours everything that is not a document. */
  setColours({ line, ink, base, paper }: MapColours): void {
    if (this.#graticule) this.#map.removeLayer(this.#graticule);
    const font = '10px system-ui, sans-serif';
    const label = (textAlign: CanvasTextAlign, textBaseline: CanvasTextBaseline) =>
      new Text({
        ...{ font, textAlign, textBaseline },
        fill: new Fill({ color: ink }),
        stroke: new Stroke({ color: paper, width: 3 }),
      });
    this.#graticule = new Graticule({
      strokeStyle: new Stroke({ color: line, width: 1 }),
      showLabels: true,
      wrapX: false,
      lonLabelPosition: 0.01,
      latLabelPosition: 0.995,
      lonLabelStyle: label('center', 'bottom'),
      latLabelStyle: label('end', 'bottom'),
      lonLabelFormatter: (longitude) => formatDegrees(longitude, 'E', 'W'),
      latLabelFormatter: (latitude) => formatDegrees(latitude, 'N', 'S'),
    });
    this.#map.getLayers().insertAt(0, this.#graticule);
    const name = new Text({
      font: 'italic 11px system-ui, sans-serif',
      fill: new Fill({ color: ink }),
      stroke: new Stroke({ color: paper, width: 3 }),
      overflow: true,
    });
    const baseStyle = new Style({
      stroke: new Stroke({ color: `${base}70`, width: 1.5 }),
      fill: new Fill({ color: `${base}1c` }),
      image: new CircleStyle({ radius: 3, fill: new Fill({ color: base }) }),
      text: name,
    });
    this.#baseLayer.setStyle((feature) => {
      const isLine = /Line/.test(feature.getGeometry()?.getType() ?? '');
      name.setPlacement(isLine ? 'line' : 'point');
      name.setText(String(feature.get('label') ?? ''));
      return baseStyle;
    });
  }

  /** Looks at all documents, or else at the base layer. */
  fit(): void {
    const points = this.#points.extent();
    const boxes = [points, boxOf(this.#shapes)].filter((one): one is Extent => one !== undefined);
    const [first, second] = boxes.length > 0 ? boxes : [boxOf(this.#base)];
    if (!first) return;
    const all = second
      ? [
          Math.min(first[0]!, second[0]!),
          Math.min(first[1]!, second[1]!),
          Math.max(first[2]!, second[2]!),
          Math.max(first[3]!, second[3]!),
        ]
      : first;
    this.#map.updateSize();
    this.#view.fit(all, { padding: Array.from({ length: 4 }, () => PADDING_PX), maxZoom: NEAREST });
  }

  /** Looks at a document that is out of sight. */
  reveal(id: string): void {
    const point = this.#points.byId.get(id);
    const feature = this.#shapes.getFeatureById(id) as Feature | null;
    const extent = feature?.getGeometry()?.getExtent();
    const at = point
      ? [point.toX, point.toY]
      : extent && [(extent[0]! + extent[2]!) / 2, (extent[1]! + extent[3]!) / 2];
    const seen = this.#view.calculateExtent(this.#map.getSize());
    if (!at || (at[0]! > seen[0]! && at[0]! < seen[2]! && at[1]! > seen[1]! && at[1]! < seen[3]!)) return;
    this.#view.setCenter(at);
  }

  /** The ids of the documents in a box. */
  idsWithin(box: Box): string[] {
    const extent = transformExtent([...box], 'EPSG:4326', 'EPSG:3857');
    const shapes = this.#shapes
      .getFeaturesInExtent(extent)
      .filter((feature) => feature.getGeometry()?.intersectsExtent(extent));
    return [
      ...this.#points.within(extent as [number, number, number, number]),
      ...shapes.map((shape) => String(shape.getId())),
    ];
  }

  resize(): void {
    this.#map.updateSize();
  }

  end(): void {
    this.#map.setTarget(undefined);
    this.#map.dispose();
  }

  #idAt(pixel: number[]): string | undefined {
    const [x, y] = this.#map.getCoordinateFromPixel(pixel) as [number, number];
    const reach = REACH_PX * (this.#view.getResolution() ?? 1);
    const point = this.#points.nearest(x, y, reach, performance.now());
    if (point) return point.id;
    const feature = this.#map.forEachFeatureAtPixel(pixel, (found) => found, {
      layerFilter: (layer) => layer === this.#shapeLayer,
      hitTolerance: 3,
    });
    const id = (feature as Feature | undefined)?.getId();
    return id === undefined ? undefined : String(id);
  }
}

function boxOf(source: VectorSource): Extent | undefined {
  return source.isEmpty() ? undefined : (source.getExtent() ?? undefined);
}

/** An angle in degrees and minutes, as it stands at the edge of a chart. */
function formatDegrees(value: number, positive: string, negative: string): string {
  const minutes = Math.round(Math.abs(value) * 60 * 100) / 100;
  const whole = Math.floor(minutes / 60);
  const rest = Number((minutes - whole * 60).toFixed(2));
  const side = minutes === 0 ? '' : value > 0 ? ` ${positive}` : ` ${negative}`;
  return `${whole}°${rest === 0 ? '' : `${String(rest).padStart(2, '0')}′`}${side}`;
}
