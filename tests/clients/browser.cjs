// The parts of a browser that data adaptors of grids take for granted.
const { JSDOM } = require('jsdom');

const parts = ['XMLHttpRequest', 'Node', 'Element', 'HTMLElement', 'Event', 'CustomEvent', 'location', 'DOMParser', 'getComputedStyle', 'DocumentFragment'];

exports.open = (address) => {
  const { window } = new JSDOM('<!doctype html><body></body>', { url: address, pretendToBeVisual: true });
  globalThis.window = window;
  globalThis.document = window.document;
  Object.defineProperty(globalThis, 'navigator', { value: window.navigator, configurable: true });
  for (const part of parts) globalThis[part] = window[part];
};
