export * from './chartSvg.js';
export * from './digestMail.js';
export * from './digestTimes.js';
export * from './document.js';
