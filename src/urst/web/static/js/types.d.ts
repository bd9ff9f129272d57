// What the server tells, and what results hold once they are unpacked.

export type Triple = [number, number, number];
export type Numbers = Float32Array | Int32Array | Uint32Array | Int16Array | Uint16Array | Int8Array | Uint8Array;
/** Numbers of a result; where `low` is given they are steps between bounds, one pair for each column. */
export type Column<T extends Numbers = Numbers> = T & { shape?: number[], low?: number[], high?: number[] };

// The state of a shot, as `urst.web.state` tells it.

export interface Scale { name: string, label: string, unit: string, factor: number, least: number | null, most: number | null, about: string }
export interface Cue { name: string, frame: number }
export interface Forecast { unit: string, count: number, memory: number, disk: number, seconds: number }
/** News of a bake under way, of one layer and one frame; empty but for `doing` before the first. */
export interface Progress { layer: string, key: string, frame: number, done: number, total: number, seconds: number, gauges: Record<string, number>, doing?: string }
export interface Run { id: number, kind: string, state: string, layers: string[], progress: Progress, message: string, stopping: boolean }
export interface Finding {
  title: string, why: string, fix: string, layer: string | null, frame: number | null, grave: boolean, name: string, known: string, accepted: string
}
export interface Layer {
  id: string, name: string, kind: string, key: string, wanted: string, state: string, done: number, total: number, moving: boolean,
  representation: string | null, reads: string[], coupled: string[], frames: number[], chief: string | null, fastest: string | null,
  bytes: number, gauges: Record<string, number[]>, summary: string, scales: Scale[], forecast: Forecast, after: string[], together: string[],
  /** news of its own bake, kept by the page */
  running?: Progress | null,
}
export interface State {
  id: string, name: string, revision: number, quality: string, undo: boolean, redo: boolean, start: number, end: number, rate: number,
  cues: Cue[], layers: Layer[], findings: Finding[], runs: Run[], last: Run | null,
}
/** An earlier state that is looked at in place of the present one. */
export interface Against { at: string, name: string, differs: string[] }

// What the stage must know of the set, as `urst.web.data` tells it.

export interface Box { low: Triple, high: Triple }
export interface PieceMeta {
  name: string, material: string, motion: string, jointed: boolean, position: Triple, colour: string, dust: string, endless: boolean,
  seen: boolean, since: number | null, until: number | null, stance: number[], box?: Box,
}
export interface Domain { low: Triple, cell: number, shape: Triple }
export interface Shade { name: string, colour: string, extinction: number }
export interface Sliced { name: string, title: string, unit: string }
export interface Look { extinction: number, dimming: number, chip: number }
export interface CameraMeta { name: string, eye: Triple, target: Triple, lens: number, angle: number }
export interface Meta {
  start: number, played: number[] | null, set: string, paths: string, pieces: PieceMeta[], casts: Record<string, number[]>,
  matter: Record<string, { colour: string, dust: string, clear?: Triple, deep?: Triple }>, domains: Record<string, Domain>, sea: boolean, shades: Record<string, Shade[]>,
  sorts: Record<string, [string, string][]>, sliced: Record<string, Sliced[]>, bounds: [Triple, Triple] | null, look: Look,
  camera: CameraMeta, cameras: string[], picture: { width: number, height: number, exposure: number },
}

// Frames, as `urst.drawn` encodes them and `prepare.js` works them out.

export interface FrameMeta { representation: string, levels: number, level: number }
export interface Arrays { meta: any, bytes: number, [name: string]: any }
export interface BodiesFrame extends Arrays {
  position: Float32Array, orientation: Float32Array, velocity: Float32Array, awake?: Uint8Array, pressed?: Float32Array,
  bond_alive?: Uint8Array, bond_load?: Float32Array, touch_point?: Column, touch_force?: Column,
}
export interface PointsFrame extends Arrays { position: Column, size: Float32Array, pace?: Uint8Array, sort?: Uint8Array }
export interface VolumeFrame extends Arrays { density: Uint8Array, light: Uint8Array, colour?: string, tint?: Uint8Array }
export interface SurfaceFrame extends Arrays { position: Column, normal: Int8Array, index: Uint32Array }
/** What a decoder must know of a result, beside its address. */
export interface Job { cell?: number, shades?: Shade[], look?: Look & { sun: { x: number, y: number, z: number } } }

/** One body as it is drawn and told of. */
export interface BodyInfo {
  name: string, colour: string, motion: string, jointed: boolean, piece: number, part: number, shade: number, centre: Triple, parts: number,
  number?: number, mass?: number, volume?: number, local?: Triple,
}
/** Skins of bodies, as `prepare.js` has them. */
export interface Skins {
  skin: Float32Array, normal: Int8Array, body: Int32Array, rim: Float32Array, index: Float32Array, crack: Uint8Array, starts: Int32Array,
  radius: Float32Array, runStarts: Int32Array, spheres: Float32Array,
}
/** What is to be seen at a frame. */
export interface Scenery {
  at: number,
  posed: { layer: Layer, frame: BodiesFrame, past: BodiesFrame[] }[],
  still: Layer[],
  points: { layer: Layer, arrays: PointsFrame }[],
  volumes: { layer: Layer, arrays: VolumeFrame, domain: Domain }[],
  surfaces: { layer: Layer, arrays: SurfaceFrame }[],
  domains: Domain[],
  wet: { key: string, frame: number } | null,
  sliced: string,
}
/** Something that can be done, as the palette lists it. */
export interface Command { name: string, key?: string, run: () => unknown }

declare global {
  interface Window { htmx: { ajax(way: string, path: string, options: { target: string }): Promise<void> } }
}
