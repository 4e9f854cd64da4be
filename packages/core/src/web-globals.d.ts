// What every browser and Node.js have alike, and the language's own library does not declare.
declare function atob(text: string): string;
declare function btoa(binary: string): string;
declare class TextEncoder {
  encode(text: string): Uint8Array;
}
declare class TextDecoder {
  constructor(encoding: string, options: { fatal: boolean });
  decode(bytes: Uint8Array): string;
}
