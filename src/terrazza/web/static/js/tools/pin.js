// Put a pin with a name, a text, a link and a picture at a touched point.
import { bring } from "../files.js";
import { button, link, send, show, take } from "../gestures.js";

const PANEL = `<label class="row"><span>pin</span><input id="pin-name" class="form-control form-control-sm mini wide" placeholder="name"></label>
<textarea class="form-control form-control-sm" id="pin-text" rows="3" placeholder="what there is to say here"></textarea>
<label class="row"><span>link</span><input id="pin-link" class="form-control form-control-sm mini wide" placeholder="https://"></label>
<label class="row"><span>picture</span><input class="form-control form-control-sm" id="pin-picture" type="file" accept="image/png,image/jpeg"></label>
${button("keep", "put the pin")}${link("no", "leave it")}`;

const begin = () => show("Touch the point to put a pin at.");

async function put(app, point) {
  const value = (id) => document.getElementById(id).value.trim();
  const file = document.getElementById("pin-picture").files[0];
  const said = {
    name: value("pin-name"),
    text: value("pin-text"),
    link: value("pin-link"),
    picture: file?.name ?? "",
  };
  if (file) await bring(app.job, [file], () => {});
  send(app, "pins.put", { points: JSON.stringify([{ scan: point.scan, at: point.own }]), ...said });
}

export default {
  name: "pin",
  key: "i",
  order: 30,
  title: "pin",
  help: "Put a pin",
  cursor: "crosshair",
  sends: ["pins.put"],
  enter: begin,
  async click(app, view, px, py) {
    const point = await take(app, view, px, py);
    if (!point) return;
    app.picked = point;
    show(PANEL, async (what) => {
      if (what === "keep") await put(app, point);
      begin();
    });
  },
  leave: () => show(""),
};
