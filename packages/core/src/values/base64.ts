export { fromUint8Array as toBase64, toUint8Array as fromBase64 } from 'js-base64';
