// Collections of records for Swift, beside Pantry.swift: each record is an entry of its own.
//
// NOT COMPILED, as Pantry.swift says.
//
//     struct Planting: Codable { var crop: String; var bed: String; var sown: Date }
//
//     final class Garden: Declared {
//         let plantings = RecordsKey<Planting>("plantings")
//     }
//     let plantings = try pantry[garden.plantings]
//     let id = try await plantings.add(Planting(crop: "beans", bed: "C4", sown: .now))
//     for await all in plantings.changes { show(all) }
//
// A property is stored under its name in kebab case: spacingCm is spacing-cm. Dates are texts (RFC 3339).

import Foundation
import Mobile

/// A collection's key.
public final class RecordsKey<R: Codable>: Declarable {
    public let name: String
    private var made: MobileRecordsKey?

    public init(_ name: String) { self.name = name }

    public func declare(_ keys: MobileKeys) { made = keys.recordsKey(name) }

    func own() throws -> MobileRecordsKey {
        guard let made else { throw PantryError("misuse: the key \(name) is not a property of the Declared that was opened") }
        return made
    }

    func record(_ x: R) throws -> MobileRecord {
        let text = String(decoding: try encoder().encode(x), as: UTF8.self)
        return try thrown { MobileRecordFromJSON(text, $0)! }
    }

    func value(_ r: MobileRecord) throws -> R {
        let text = try thrown { r.json($0) }
        do { return try decoder().decode(R.self, from: Data(text.utf8)) } catch { throw PantryError("invalid: the record is not a \(R.self): \(error)") }
    }

    /// The records that can be read, in order.
    func readable(_ ids: MobileTexts, _ get: (String) throws -> MobileRecord) throws -> [Stored<R>] {
        try strings(ids).compactMap { id in (try? value(get(id))).map { Stored(id: id, record: $0) } }
    }
}

/// A stored record with its id.
public struct Stored<R>: Identifiable {
    public let id: String
    public let record: R
}

private struct Name: CodingKey {
    let stringValue: String
    var intValue: Int? { nil }
    init(stringValue: String) { self.stringValue = stringValue }
    init?(intValue: Int) { nil }
}

private func kebab(_ name: String) -> String {
    name.reduce(into: "") { out, c in
        if c.isUppercase && !out.isEmpty { out.append("-") }
        out.append(c.lowercased())
    }
}

private func camel(_ name: String) -> String {
    let words = name.split(separator: "-")
    return words.dropFirst().reduce(String(words.first ?? "")) { $0 + $1.prefix(1).uppercased() + $1.dropFirst() }
}

private func dates() -> ISO8601DateFormatter {
    let f = ISO8601DateFormatter()
    f.formatOptions = [.withInternetDateTime, .withFractionalSeconds]
    return f
}

private func encoder() -> JSONEncoder {
    let e = JSONEncoder()
    e.keyEncodingStrategy = .custom { Name(stringValue: kebab($0.last!.stringValue)) }
    e.dateEncodingStrategy = .custom { date, to in
        var c = to.singleValueContainer()
        try c.encode(dates().string(from: date))
    }
    return e
}

private func decoder() -> JSONDecoder {
    let d = JSONDecoder()
    d.keyDecodingStrategy = .custom { Name(stringValue: camel($0.last!.stringValue)) }
    d.dateDecodingStrategy = .custom { from in
        let text = try from.singleValueContainer().decode(String.self)
        guard let date = dates().date(from: text) ?? ISO8601DateFormatter().date(from: text) else { throw PantryError("invalid: \(text) is not a date") }
        return date
    }
    return d
}

/// A collection on this device.
public struct Records<R: Codable> {
    let key: RecordsKey<R>
    let r: MobileRecords

    /// All records that can be read, in order: ids that are numbers first, by size. It does not wait.
    public var all: [Stored<R>] { get throws { try calling { try key.readable(r.ids(), r.get) } } }

    /// The record of an id. If there is none, the error's code is absent.
    public func get(_ id: String) throws -> R { try calling { try key.value(r.get(id)) } }

    /// Stores a record under the next number, which is never used again, and returns it.
    public func add(_ x: R) async throws -> String {
        let record = try calling { try key.record(x) }
        return try await written { try thrown { r.add(record, error: $0) } }
    }

    /// Stores a record under an id, and replaces an existing one.
    public func put(_ id: String, _ x: R) async throws { try await written { try r.put(id, one: key.record(x)) } }

    /// Removes a record if there is one.
    public func drop(_ id: String) async throws { try await written { try r.drop(id) } }

    /// All records now, and after each change, by any process.
    public var changes: AsyncStream<[Stored<R>]> { stream(r.watch) { try self.all } }

    /// The same for a SwiftUI view.
    @MainActor public func observed() throws -> Observed<[Stored<R>]> { Observed(try all, changes) }
}

extension Pantry {
    public subscript<R>(_ key: RecordsKey<R>) -> Records<R> {
        get throws { try calling { Records(key: key, r: try key.own().bind(ns)) } }
    }
}
