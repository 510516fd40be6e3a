// Reads a PSD and writes as JSON what it holds: the independent reader that tests/core/test_images.py compares with.
const fs = require("fs");
const { initializeCanvas, readPsd } = require("ag-psd");
const picture = (width, height) => ({ width, height, data: new Uint8ClampedArray(4 * width * height) });
initializeCanvas(() => { throw new Error("no canvas is wanted"); }, picture);
const pixels = (image) => Array.from({ length: image.data.length / 4 }, (_, n) => Array.from(image.data.slice(4 * n, 4 * n + 4)));
const told = (layer) => ({
  name: layer.name, width: layer.width, height: layer.height,
  pixels: layer.imageData && pixels(layer.imageData), mask: layer.mask?.imageData && pixels(layer.mask.imageData).map((p) => p[0]),
  children: layer.children?.map(told),
});
const [file, out] = process.argv.slice(2);
fs.writeFileSync(out, JSON.stringify(told(readPsd(fs.readFileSync(file), { useImageData: true, skipThumbnail: true }))));
