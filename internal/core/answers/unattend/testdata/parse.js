// Names what a grammar of PowerShell does not understand in scripts: node parse.js FILE...
const fs = require('fs'), path = require('path');
const modules = path.join(process.env.MINTBATCH_NODE, 'node_modules');
const { Parser, Language } = require('module').createRequire(path.join(modules, 'any.js'))('web-tree-sitter');
(async () => {
  await Parser.init();
  const parser = new Parser();
  parser.setLanguage(await Language.load(path.join(modules, 'tree-sitter-powershell', 'tree-sitter-powershell.wasm')));
  for (const file of process.argv.slice(2)) {
    const text = fs.readFileSync(file, 'utf8').replace(/^\ufeff/, '');
    const look = node => {
      if (node.isError || node.isMissing) console.log(`${path.basename(file)}:${node.startPosition.row + 1}: ${text.slice(node.startIndex, node.endIndex)}`);
      node.children.forEach(look);
    };
    look(parser.parse(text).rootNode);
  }
})();
