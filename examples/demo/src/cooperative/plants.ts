/** Plants that bees fly to: name, first and last month in bloom, nectar and pollen from 0 to 4, where they grow. */
const known = `
Hazel 1 3 0 4 hedge; Snowdrop 2 3 1 2 garden; Winter aconite 2 3 2 3 garden; Crocus 2 4 2 4 garden; Goat willow 3 4 4 4 hedge
Blackthorn 3 4 3 3 hedge; Cherry plum 3 4 3 3 orchard; Coltsfoot 3 4 2 3 moor; Gorse 3 6 0 3 moor; Dandelion 4 6 3 4 meadow
Pear 4 5 2 3 orchard; Sweet cherry 4 5 4 4 orchard; Apple 4 5 4 4 orchard; Plum 4 5 3 3 orchard; Gooseberry 4 5 3 2 garden
Bilberry 4 6 4 2 moor; Norway maple 4 5 4 3 hedge; Field maple 5 6 3 2 hedge; Sycamore 5 6 4 3 hedge; Hawthorn 5 6 3 3 hedge
Horse chestnut 5 6 3 4 hedge; Holly 5 6 3 2 hedge; Raspberry 5 8 4 3 garden; Bramble 6 9 3 3 hedge; Field bean 5 7 3 3 meadow
White clover 5 9 4 4 meadow; Red clover 6 9 3 3 meadow; Sainfoin 5 7 4 3 meadow; Bird’s-foot trefoil 5 9 3 2 meadow; Comfrey 5 8 3 2 garden
Borage 6 9 4 2 garden; Phacelia 6 9 4 4 meadow; Thyme 6 8 4 1 garden; Marjoram 7 9 4 2 garden; Lavender 6 9 4 1 garden
Small-leaved lime 6 7 4 2 hedge; Large-leaved lime 6 7 4 2 hedge; Sweet chestnut 6 7 3 4 hedge; Rosebay willowherb 6 9 4 3 moor; Bell heather 6 9 4 2 moor
Ling heather 8 9 4 3 moor; Cross-leaved heath 6 9 3 2 moor; Mullein 6 9 1 3 meadow; Viper’s bugloss 6 9 4 3 meadow; Teasel 7 9 3 2 meadow
Knapweed 6 9 3 3 meadow; Goldenrod 8 10 3 3 meadow; Michaelmas daisy 8 11 3 3 garden; Ivy 9 11 4 4 hedge; Winter honeysuckle 12 3 2 2 garden
`;

/** The catalogue of plants, as the office keeps it. */
export function plantRows() {
  return known
    .trim()
    .split(/[;\n]/)
    .map((line, n) => {
      const [, name = '', from, until, nectar, pollen, grows = ''] =
        /^\s*(.+) (\d+) (\d+) (\d) (\d) (\w+)$/.exec(line) ?? [];
      return {
        id: `plant-${String(n + 1).padStart(2, '0')}`,
        ...{ name, blooms: Number(from), until: Number(until), nectar: Number(nectar), pollen: Number(pollen) },
        grows: grows as 'hedge' | 'garden' | 'orchard' | 'moor' | 'meadow',
      };
    });
}
