"""Apache Iceberg: tables that a catalogue lists. Specification: https://iceberg.apache.org/spec/"""
