"""The demo scenario: the tide lock of Skerry Haven. Rigs, sequences and pictures are files; captures are made from them."""
