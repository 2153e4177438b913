// What the headers that gobind makes need of Apple's Foundation, so that they can be read where
// it is not: declarations, and nothing behind them.
#pragma once
#include <stdbool.h>
#include <stdint.h>

typedef bool BOOL;
typedef long NSInteger;
typedef unsigned long NSUInteger;
#define YES true
#define NO false
#define nil ((id)0)
#define FOUNDATION_EXPORT extern

__attribute__((objc_root_class))
@interface NSObject
+ (instancetype)alloc;
- (instancetype)init;
@end

@protocol NSObject
@end

@interface NSObject (Protocol) <NSObject>
@end

@interface NSString : NSObject
@end

@interface NSData : NSObject
@end

@interface NSError : NSObject
@property(readonly) NSString *localizedDescription;
@end

@interface NSConstantString : NSString
@end
