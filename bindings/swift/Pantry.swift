// Small Pantry for Swift, over the framework that `gomobile bind -target ios` makes of package
// mobile: keys, values that are read without waiting, writes that are awaited, changes as
// streams, errors with a code and a sentence.
//
// NOT VERIFIED: this was written from the Objective-C headers that gobind makes, and has not been
// compiled or run yet. The layer for Kotlin beside it, of the same shape, is run in tests.
//
//     final class Settings: Keys {
//         lazy var reminderHour = whole("reminder-hour", 18, 0...23)
//         lazy var units = choice("units", ["metric", "imperial"])
//     }
//     let settings = Settings()
//     _ = (settings.reminderHour, settings.units)      // declared before it is opened
//     let pantry = try Pantry(directory, "plotbook", settings)
//     let hour = try pantry[settings.reminderHour]
//     label.text = try String(hour.value)
//     Task { try await hour.set(7) }
//     Task { for await now in hour.changes { label.text = String(now) } }

import Foundation
import Mobile

/// What went wrong: a code for the program, as package mobile has them, and a sentence for the user.
public struct PantryError: LocalizedError {
    public let code: String
    public let sentence: String
    public var errorDescription: String? { sentence }

    init(_ error: Error) {
        let message = (error as NSError).localizedDescription
        let code = MobileCode(message)
        self.code = code.isEmpty ? "failed" : code
        sentence = MobileSentence(message)
    }
}

func told<T>(_ f: () throws -> T) throws -> T {
    do { return try f() } catch let known as PantryError { throw known } catch { throw PantryError(error) }
}

/// Calls a function that returns its error beside a text, which Swift does not throw by itself.
func thrown<T>(_ f: (NSErrorPointer) -> T) throws -> T {
    var error: NSError?
    let x = f(&error)
    if let error { throw error }
    return x
}

/// Bytes that are none come as nothing at all, which Swift takes for an error without a cause.
func some(_ f: () throws -> Data) throws -> Data {
    do { return try f() } catch where (error as NSError).domain == "Foundation._GenericObjCError" { return Data() }
}

func millis(_ seconds: TimeInterval) -> Int64 { Int64((seconds * 1000).rounded()) }
func seconds(_ millis: Int64) -> TimeInterval { Double(millis) / 1000 }
func moment(_ millis: Int64) -> Date { Date(timeIntervalSince1970: seconds(millis)) }

func strings(_ t: MobileTexts) throws -> [String] {
    try (0..<t.len()).map { i in try thrown { t.at(i, error: $0) } }
}

func texts(_ all: [String]) -> MobileTexts {
    let t = MobileNewTexts()!
    all.forEach { _ = t.add($0) }
    return t
}

/// A variable as the library has it.
struct Port<T> {
    let get: () throws -> T
    let set: (T) throws -> Void
    let clear: () throws -> Void
    let watch: (MobileRunnerProtocol, MobileHandlerProtocol) throws -> MobileWatching
}

/// A key: a name with a kind and a default.
public struct Key<T> {
    public let name: String
    /// Reads what a user typed; the error's sentence is for him.
    public let parse: (String) throws -> T
    /// The inverse of parse: what to show in an input.
    public let format: (T) throws -> String
    let bind: (MobileNamespace) throws -> Port<T>
    let within: (MobileBatch) throws -> Port<T>
}

/// The keys of an app, which are declared before it opens a namespace.
open class Keys {
    let keys = MobileNewKeys()!

    public init() {}

    public func whole(_ name: String, _ start: Int64 = 0, _ range: ClosedRange<Int64>? = nil) -> Key<Int64> {
        let k = keys.whole(name, def: start)!
        if let range { _ = k.between(range.lowerBound, hi: range.upperBound) }
        func port(_ v: MobileWhole) -> Port<Int64> {
            Port(get: { var x: Int64 = 0; try v.get(&x); return x }, set: v.set, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { var x: Int64 = 0; try k.parse(s, x: &x); return x } }, format: { x in try told { try thrown { k.format(x, error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }

    public func decimal(_ name: String, _ start: Double = 0, _ range: ClosedRange<Double>? = nil) -> Key<Double> {
        let k = keys.decimal(name, def: start)!
        if let range { _ = k.between(range.lowerBound, hi: range.upperBound) }
        func port(_ v: MobileDecimal) -> Port<Double> {
            Port(get: { var x = 0.0; try v.get(&x); return x }, set: v.set, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { var x = 0.0; try k.parse(s, x: &x); return x } }, format: { x in try told { try thrown { k.format(x, error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }

    public func bool(_ name: String, _ start: Bool = false) -> Key<Bool> {
        let k = keys.switch_(name, def: start)!
        func port(_ v: MobileSwitch) -> Port<Bool> {
            Port(get: { var x: ObjCBool = false; try v.get(&x); return x.boolValue }, set: v.set, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { var x: ObjCBool = false; try k.parse(s, x: &x); return x.boolValue } }, format: { x in try told { try thrown { k.format(x, error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }

    public func text(_ name: String, _ start: String = "", sealed: Bool = false) -> Key<String> {
        let k = keys.text(name, def: start)!
        return text(name, sealed ? k.sealed()! : k)
    }

    /// One of a few texts. The first is the default.
    public func choice(_ name: String, _ options: [String]) -> Key<String> {
        let all = MobileNewTexts()!
        options.forEach { _ = all.add($0) }
        return text(name, keys.choice(name, options: all)!)
    }

    public func bytes(_ name: String) -> Key<Data> {
        let k = keys.bytes(name, def: nil)!
        func port(_ v: MobileBytes) -> Port<Data> {
            Port(get: { try some { try v.get() } }, set: v.set, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { try some { try k.parse(s) } } }, format: { x in try told { try thrown { k.format(x, error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }

    /// Moments, to the millisecond.
    public func time(_ name: String, _ start: Date = Date(timeIntervalSince1970: 0)) -> Key<Date> {
        let k = keys.time(name, defMillis: millis(start.timeIntervalSince1970))!
        func port(_ v: MobileTime) -> Port<Date> {
            Port(get: { var x: Int64 = 0; try v.get(&x); return moment(x) }, set: { try v.set(millis($0.timeIntervalSince1970)) }, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { var x: Int64 = 0; try k.parse(s, x: &x); return moment(x) } },
                   format: { x in try told { try thrown { k.format(millis(x.timeIntervalSince1970), error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }

    /// Durations, to the millisecond.
    public func span(_ name: String, _ start: TimeInterval) -> Key<TimeInterval> {
        let k = keys.span(name, defMillis: millis(start))!
        func port(_ v: MobileSpan) -> Port<TimeInterval> {
            Port(get: { var x: Int64 = 0; try v.get(&x); return seconds(x) }, set: { try v.set(millis($0)) }, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { var x: Int64 = 0; try k.parse(s, x: &x); return seconds(x) } },
                   format: { x in try told { try thrown { k.format(millis(x), error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }

    /// Lists of texts; keep bounds them.
    public func list(_ name: String, keep: Int? = nil) -> Key<[String]> {
        let k = keys.list(name)!
        if let keep { _ = k.keep(keep) }
        func port(_ v: MobileList) -> Port<[String]> {
            Port(get: { try strings(v.get()) }, set: { try v.set(texts($0)) }, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { try strings(k.parse(s)) } }, format: { x in try told { try thrown { k.format(texts(x), error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }

    private func text(_ name: String, _ k: MobileTextKey) -> Key<String> {
        func port(_ v: MobileText) -> Port<String> {
            Port(get: { try thrown { v.get($0) } }, set: v.set, clear: v.clear, watch: v.watch)
        }
        return Key(name: name, parse: { s in try told { try thrown { k.parse(s, error: $0) } } }, format: { x in try told { try thrown { k.format(x, error: $0) } } },
                   bind: { try port(k.bind($0)) }, within: { try port(k.in_($0)) })
    }
}

/// Runs what is to be told where it comes in: a stream takes it from there.
private final class Here: NSObject, MobileRunnerProtocol {
    func post(_ t: MobileTask?) { t?.run() }
}

private final class Handler: NSObject, MobileHandlerProtocol {
    let f: () -> Void
    init(_ f: @escaping () -> Void) { self.f = f }
    func changed() { f() }
}

private let writing = DispatchQueue(label: "pantry")

/// Writes off the thread that draws, one after the other.
func written(_ f: @escaping () throws -> Void) async throws {
    try await withCheckedThrowingContinuation { (c: CheckedContinuation<Void, Error>) in
        writing.async { c.resume(with: Result { try told(f) }) }
    }
}

/// A key's variable. It may be used by several threads at once.
public struct Variable<T> {
    let port: Port<T>

    /// What is stored, or else the default; it does not wait.
    public var value: T { get throws { try told(port.get) } }

    /// Stores: when it returns, it is on the disk.
    public func set(_ x: T) async throws { try await written { try port.set(x) } }

    /// Removes what is stored.
    public func clear() async throws { try await written(port.clear) }

    /// The value now, and the newest after each change, by anybody. A slow handler skips values.
    public var changes: AsyncStream<T> {
        AsyncStream(bufferingPolicy: .bufferingNewest(1)) { c in
            let w = try? port.watch(Here(), Handler { if let x = try? port.get() { c.yield(x) } })
            c.onTermination = { _ in w?.stop() }
        }
    }
}

/// A commit that is being made.
public final class Commit: NSObject, MobileChangeProtocol {
    private let f: (Commit) throws -> Void
    private var batch: MobileBatch!

    init(_ f: @escaping (Commit) throws -> Void) { self.f = f }

    public func apply(_ b: MobileBatch?) throws {
        batch = b
        try f(self)
    }

    public func get<T>(_ key: Key<T>) throws -> T { try told { try key.within(batch).get() } }
    public func set<T>(_ key: Key<T>, _ x: T) throws { try told { try key.within(batch).set(x) } }
}

/// A namespace that is open: the entries of one app, in one file.
public final class Pantry {
    private let ns: MobileNamespace

    /// Opens it in a directory of the app's own. seal is 32 bytes from the keychain.
    public init(_ directory: String, _ name: String, _ keys: Keys, seal: Data? = nil) throws {
        let options = MobileNewOptions()!
        if let seal { _ = options.seal(seal) }
        ns = try told {
            var error: NSError?
            let opened = MobileOpen(directory, name, keys.keys, options, &error)
            if let error { throw error }
            return opened!
        }
    }

    public subscript<T>(_ key: Key<T>) -> Variable<T> { get throws { Variable(port: try told { try key.bind(ns) }) } }

    /// All changes, or none: what f throws is thrown, and nothing stored.
    public func commit(_ f: @escaping (Commit) throws -> Void) async throws { try await written { try self.ns.commit(Commit(f)) } }

    public func close() throws { try told { try ns.close() } }
}
