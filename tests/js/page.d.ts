// What the page is known to hold, for the type checker: libraries that it loads, elements that are there, what events are aimed at.
import "../../src/terrazza/web/static/js/table.js";
import "../../src/terrazza/web/static/js/cloud.js";

declare global {
  interface Window {
    htmx: { ajax(method: string, url: string, how: object): Promise<void>; config: Record<string, unknown> };
    terrazza: unknown;
  }
  interface Document {
    getElementById(id: string): any;
  }
  interface ParentNode {
    querySelector(selector: string): any;
    querySelectorAll(selector: string): NodeListOf<any>;
  }
  interface EventTarget {
    closest(selector: string): any;
    dataset: DOMStringMap;
    classList: DOMTokenList;
    id: string;
    name: string;
    value: string;
    checked: boolean;
    detail: any;
  }
  interface Event {
    detail: any;
  }
}

// Values of the state that table and cloud speak of as their own (state.js).
declare module "../../src/terrazza/web/static/js/table.js" {
  interface Table {
    mode: string;
    before: string | null;
    shade: { name: string; key: string; about_zero: boolean } | null;
    returns: string;
    planMode: string;
    floor: number | null;
    size: number;
    grow: boolean;
    facing: boolean;
    shaded: boolean;
    marks: boolean;
    slabOn: boolean;
    slabHeight: number;
    slabThickness: number;
    pitch: number;
    box: any;
    hiddenScans: Set<number>;
    hiddenClasses: Set<number>;
    hiddenSurfaces: Set<number>;
    tool: string;
    draft: any;
    picked: any;
    under: any;
    outline: any;
    moving: any;
    said?: string;
    saved?: { width: number; height: number };
    comingBox?: ((scene: any) => any) | null;
  }
}
declare module "../../src/terrazza/web/static/js/cloud.js" {
  interface Cloud {
    hiddenScans: Set<number>;
    hiddenClasses: Set<number>;
    shade: { key: string } | null;
  }
}
