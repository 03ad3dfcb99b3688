// Pictures in tiles: asked for when first wanted, and the last few hundred kept.
const KEPT = 400;

export class Tiles {
  constructor(onLoad) {
    this.onLoad = onLoad;
    this.images = new Map();
  }

  // The picture at an address, null while it is on its way.
  get(url) {
    let image = this.images.get(url);
    if (image) this.images.delete(url);
    else {
      image = new Image();
      image.onload = image.onerror = () => {
        image.settled = true;
        this.onLoad();
      };
      image.src = url;
    }
    this.images.set(url, image);
    if (this.images.size > KEPT) this.images.delete(this.images.keys().next().value);
    return image.complete && image.naturalWidth ? image : null;
  }

  // Whether an answer to it, be it a refusal, has come.
  settled(url) {
    return this.images.get(url)?.settled ?? false;
  }
}
