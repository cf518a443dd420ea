/// <reference types="vite/client" />
declare module '@fontsource-variable/figtree';
declare module '@fontsource-variable/fraunces';
declare module '@fontsource-variable/jetbrains-mono';
